package causes

import (
	"regexp"
	"slices"
	"strings"
	"testing"
)

var sentence = regexp.MustCompile(`^([A-Z]|git |ssh )[^.!?]*[^ .!?]\.$`)

func TestCatalogueReadsWell(t *testing.T) {
	seen := map[Code]bool{}
	stage := 0
	for _, entry := range catalogue {
		if seen[entry.code] {
			t.Errorf("%s is claimed twice", entry.code)
		}
		seen[entry.code] = true
		if !sentence.MatchString(strings.ReplaceAll(entry.summary, "today's", "")) {
			t.Errorf("%s: not one sentence: %q", entry.code, entry.summary)
		}
		for _, word := range []string{"!", "invalid", "error", "please", "oops"} {
			if strings.Contains(strings.ToLower(entry.summary+entry.mend), word) {
				t.Errorf("%s: %q is not our voice: %q", entry.code, word, entry.summary+entry.mend)
			}
		}
		if entry.stage == Beyond {
			if entry.mend == "" || entry.by == "" {
				t.Errorf("%s has no mend: %+v", entry.code, entry)
			}
			continue
		}
		if at := slices.Index(Stages, entry.stage); at < stage {
			t.Errorf("%s stands behind a later stage", entry.code)
		} else {
			stage = at
		}
		if entry.mend == "" || entry.shows == "" || entry.by == "" {
			t.Errorf("%s has no mend, nobody to carry it out, or no evidence: %+v", entry.code, entry)
		}
	}
}

// TestNoTwoCausesClaimTheSame holds that no words of a host belong to two causes, and that causes which share a text
// leave each other room.
func TestNoTwoCausesClaimTheSame(t *testing.T) {
	words, shown := map[string]Code{}, map[string]float64{}
	for _, e := range catalogue {
		for _, form := range e.signs.words {
			if other, taken := words[form]; taken {
				t.Errorf("%s and %s both claim %q", other, e.code, form)
			}
			words[form] = e.code
		}
		for _, s := range e.signs.shown {
			if shown[s.form] += s.weight; shown[s.form] > 1.001 {
				t.Errorf("%q is claimed for %v, the last time by %s", s.form, shown[s.form], e.code)
			}
		}
	}
}

// TestFind finds every code by its name, those that are only notes as well, and nothing else.
func TestFind(t *testing.T) {
	for _, code := range append(Codes(), KeyOld, TokenEndsSoon) {
		if found, known := Find(code.String()); !known || found != code {
			t.Errorf("%s: %v, %v", code, found, known)
		}
	}
	if found, known := Find("no-such-code"); known || !found.IsZero() {
		t.Errorf("a name that nobody knows: %v", found)
	}
}

// TestHear reads what hosts say, between the stages that are asked about.
func TestHear(t *testing.T) {
	for _, row := range []struct {
		words    string
		from, to StageName
		want     Code
	}{
		{"Your account has been suspended.", SignIn, Permission, AccountBlocked},
		{"Your account has been suspended.", Repository, Permission, Code{}},
		{"The access token has expired.", SignIn, SignIn, TokenEnded},
		{"Repository not found.", SignIn, Permission, RepositoryMissing},
		{"Welcome aboard.", Address, Permission, Code{}},
		{"Bad credentials. This address is blocked for a minute.", SignIn, Permission, TokenUnknown},
		{"WARNING: Your password has expired.\nPassword change required but no TTY available.", SignIn, Permission,
			AccountBlocked},
		{"maps/atlas was archived and is read-only.", SignIn, Permission, RepositoryFrozen},
		{"This host takes https only.", Address, Permission, URLTransportRefused},
		{"Maintenance until 14:00.", SignIn, Permission, HostFailing},
		{"The server is being moved. Back at noon.", SignIn, Permission, HostFailing},
		{"abort: repository requires features unknown to this Mercurial: exp-lanterns", SignIn, Permission, HostFailing},
		{"fatal: write error: No space left on device", SignIn, Permission, DiskFull},
	} {
		if got := Hear(row.words, row.from, row.to); got != row.want {
			t.Errorf("%q: %v, want %v", row.words, got, row.want)
		}
	}
}

func TestStages(t *testing.T) {
	if !SignIn.Within(Trust, SignIn) || SignIn.Within(Address, Trust) || !Address.Before(Permission) ||
		Trust.Before(Trust) {
		t.Error("the stages are in another order than the way")
	}
}
