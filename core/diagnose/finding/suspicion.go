package finding

import (
	"slices"

	"anchorage.example/unicrux/core/causes"
)

// A Suspicion is a cause that was seen before the way broke, and that explains a break at some stages.
type Suspicion struct {
	Crux     *Crux
	From, To causes.StageName
	Only     []causes.Code // of those it explains; empty for all
}

// Suspect makes a suspicion that explains breaks from a stage on: up to the sign-in, or for a wrong address, which may
// lead to a host that lets us in, up to the end.
func Suspect(from causes.StageName, crux *Crux) Suspicion {
	to := causes.SignIn
	if crux.Stage == causes.Address {
		to = causes.Permission
	}
	return Suspicion{Crux: crux, From: from, To: to}
}

// SuspectFor makes a suspicion that explains one break alone.
func SuspectFor(code causes.Code, crux *Crux) Suspicion {
	stage := causes.StageOf(code)
	return Suspicion{Crux: crux, From: stage, To: stage, Only: []causes.Code{code}}
}

// First picks the crux of a break: of all causes that explain it, the one that comes first in the catalogue, which is
// the first on the way.
func First(broke *Crux, at causes.StageName, suspicions []Suspicion) *Crux {
	best := broke
	for _, s := range suspicions {
		if !at.Within(s.From, s.To) || len(s.Only) > 0 && !slices.Contains(s.Only, broke.Code) {
			continue
		}
		if causes.Rank(s.Crux.Code) < causes.Rank(best.Code) {
			best = s.Crux
		}
	}
	return best
}
