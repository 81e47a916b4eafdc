package diagnose

import (
	"regexp"
	"slices"
	"strings"
	"testing"
)

var sentence = regexp.MustCompile(`^[A-Zgit][^.!?]*[^ .!?]\.$`)

func TestCatalogueReadsWell(t *testing.T) {
	for code, entry := range catalogue {
		if !sentence.MatchString(strings.NewReplacer("today's", "", "e.g.", "").Replace(entry.summary)) {
			t.Errorf("%s: not one sentence: %q", code, entry.summary)
		}
		if entry.stage != "" && !slices.Contains(Stages, entry.stage) {
			t.Errorf("%s: no stage is called %q", code, entry.stage)
		}
		for _, word := range []string{"!", "invalid", "error", "please", "oops"} {
			if strings.Contains(strings.ToLower(entry.summary), word) {
				t.Errorf("%s: %q is not our voice: %q", code, word, entry.summary)
			}
		}
	}
}

func TestEveryCruxHasAMend(t *testing.T) {
	ours := []Code{"key-none", "host-key-unknown", "host-key-changed", "key-not-registered", "key-locked"}
	for code, entry := range catalogue {
		_, told := instructions[code]
		if entry.stage != "" && told == slices.Contains(ours, code) {
			t.Errorf("%s: told in words %v, done by a command %v; one of both is wanted", code, told, slices.Contains(ours, code))
		}
	}
	for code := range instructions {
		if !Known(code) {
			t.Errorf("%s has a mend and no entry", code)
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

func TestClean(t *testing.T) {
	for _, row := range []struct{ in, want string }{
		{"plain", "plain"},
		{"two\r\nlines\tand  more ", "two lines and more"},
		{"\x1b[31mred\x1b[0m\a", "[31mred[0m"},
		{"back\u202ewards\u200b", "backwards"},
		{"bad\xffbytes", "bad�bytes"},
		{strings.Repeat("x", maxQuoted), strings.Repeat("x", maxQuoted)},
		{strings.Repeat("é", maxQuoted+1), strings.Repeat("é", maxQuoted) + "…"},
	} {
		if got := Clean(row.in); got != row.want {
			t.Errorf("Clean(%q) = %q, want %q", row.in, got, row.want)
		}
	}
}
