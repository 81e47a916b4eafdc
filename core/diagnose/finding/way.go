package finding

import (
	"time"

	"anchorage.example/unicrux/core/causes"
	"anchorage.example/unicrux/core/wire"
)

// A Stage is one part of the way as it was found.
type Stage struct {
	Name  causes.StageName
	State State
	Took  time.Duration
	Facts []Fact
}

// A Way is the answer.
type Way struct {
	Question Question
	Stages   []Stage
	Account  string // as the host names it; empty when it does not
	Key      string // the name of the key that signed in
	Unlocked string // the path of that key, when its passphrase had to be asked for it
	HostName string // the name in clone URLs that ssh is given
	Crux     *Crux  // nil when the way is open

	HostKnown bool // a key is stored for the host
	KeyAtHand bool // there is a key to offer
	KeyWeak   bool // and none of them is strong enough to be registered anew
	KeyProved bool // the host accepted one of our keys

	Notes []Note
	Mends []Mend
	Trip  *wire.Trip // nil when the network was not reached
}

// IsOpen reports whether nothing stops the way.
func (w *Way) IsOpen() bool { return w.Crux == nil }

// Skips reports whether a stage was left out.
func (w *Way) Skips(name causes.StageName) bool { return w.stage(name).State == Skipped }

// NewWay makes one on which nothing was tried yet.
func NewWay() *Way {
	w := &Way{Stages: make([]Stage, len(causes.Stages))}
	for i, name := range causes.Stages {
		w.Stages[i] = Stage{Name: name, State: NotReached}
	}
	return w
}

func (w *Way) stage(name causes.StageName) *Stage {
	for i := range w.Stages {
		if w.Stages[i].Name == name {
			return &w.Stages[i]
		}
	}
	panic("no stage is called " + string(name)) // a misspelt constant of ours
}

// Add puts what a stage found out into the way.
func (w *Way) Add(part Part) {
	for _, passed := range part.Stages {
		stage := w.stage(passed.Name)
		stage.State, stage.Took = passed.State, passed.Took
	}
	for _, fact := range part.Facts {
		stage := w.stage(fact.Stage)
		stage.Facts = append(stage.Facts, fact.Fact)
	}
	w.Notes = append(w.Notes, part.Notes...)
}

// BreakAt marks where the line breaks: what lies behind is not reached, and what was learned there is in the
// evidence.
func (w *Way) BreakAt(crux *Crux) {
	w.Crux = crux
	behind := false
	for i := range w.Stages {
		s := &w.Stages[i]
		switch {
		case s.Name == crux.Stage:
			s.State, behind = Broken, true
		case behind && s.State != Skipped:
			*s = Stage{Name: s.Name, State: NotReached}
		case !behind && s.State == NotReached:
			s.State = Open
		}
	}
}
