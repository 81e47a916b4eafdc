package gitlink

import "testing"

func TestParentIn(t *testing.T) {
	t.Parallel()
	for stat, want := range map[string]int{
		"812 (git) S 790 812 790 34816": 790,
		"812 (a) S 1 (b) R 790 812":     790,
		"812 (git push) S 790":          790,
		"812 (git) S":                   0,
		"812 (git) S many 812":          0,
		"":                              0,
		"no name 3 4":                   0,
	} {
		if got := parentIn([]byte(stat)); got != want {
			t.Errorf("%q: %d", stat, got)
		}
	}
}
