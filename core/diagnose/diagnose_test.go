package diagnose

import (
	"regexp"
	"slices"
	"strings"
	"testing"

	"anchorage.example/unicrux/core/describe"
)

var sentence = regexp.MustCompile(`^([A-Z]|git )[^.!?]*[^ .!?]\.$`)

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

func TestFirstPicksTheEarliestThatExplains(t *testing.T) {
	broke := crux("key-not-registered", Proved)
	for _, row := range []struct {
		name       string
		broke      *Crux
		at         StageName
		suspicions []suspicion
		want       Code
	}{
		{"nothing else", broke, SignIn, nil, "key-not-registered"},
		{"earlier on the way", broke, SignIn, []suspicion{{crux("key-file-missing", Proved), SignIn, SignIn, nil}}, "key-file-missing"},
		{"the earliest of two", broke, SignIn, []suspicion{{crux("key-none", Proved), Trust, SignIn, nil}, {crux("other-user", Proved), Reach, SignIn, nil}}, "other-user"},
		{"explains only later breaks", crux("port-refused", Proved), Reach, []suspicion{{crux("key-none", Proved), Trust, SignIn, nil}}, "port-refused"},
		{"explains only earlier breaks", crux("repository-missing", Proved), Repository, []suspicion{{crux("key-none", Proved), Trust, SignIn, nil}}, "repository-missing"},
		{"explains this one too", crux("host-key-unknown", Proved), Trust, []suspicion{{crux("key-none", Proved), Trust, SignIn, nil}}, "key-none"},
	} {
		if got := first(row.broke, row.at, row.suspicions); got.Code != row.want {
			t.Errorf("%s: %s, want %s", row.name, got.Code, row.want)
		}
	}
}

func TestBreakAtMarksTheLine(t *testing.T) {
	w := newWay()
	w.open(Address, 1)
	w.open(Settings, 1)
	w.open(Reach, 1)
	w.fact(Trust, "host key", "x", "")
	w.breakAt(crux("key-locked", Proved))
	want := []State{Open, Broken, NotReached, NotReached, NotReached, NotReached, NotReached}
	for i, stage := range w.Stages {
		if stage.State != want[i] || (want[i] == NotReached && len(stage.Facts) > 0) {
			t.Errorf("%s: %+v, want %s", stage.Name, stage, want[i])
		}
	}
}

// TestNoTwoCausesClaimTheSame holds that nothing that is met on the network, and no words of a host,
// belong to two causes, and that causes which share a text leave each other room.
func TestNoTwoCausesClaimTheSame(t *testing.T) {
	met, words, shown := map[error]Code{}, map[string]Code{}, map[string]float64{}
	for _, e := range catalogue {
		for _, err := range e.signs.met {
			if other, taken := met[err]; taken {
				t.Errorf("%s and %s both claim %v", other, e.code, err)
			}
			met[err] = e.code
		}
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

// TestNobodySignedIn names no account where no user was told, though the description wants none.
func TestNobodySignedIn(t *testing.T) {
	c := &checker{host: &describe.Description{}}
	if account := c.accountOf(""); account != "" {
		t.Errorf("%q", account)
	}
}
