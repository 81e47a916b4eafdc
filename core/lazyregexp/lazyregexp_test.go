package lazyregexp

import (
	"slices"
	"testing"
)

// TestNeeds finds what every text with a form has in it.
func TestNeeds(t *testing.T) {
	t.Parallel()
	for form, want := range map[string][]string{
		`(?i)Permission denied \(`: {"permission denied ("},
		`no (such|known) host`:     {" host"},
		`^(timed out|refused)$`:    {"timed out", "refused"},
		`a.*long word.*b`:          {"long word"},
		`(x|[yz])`:                 nil,
		`(maybe)?`:                 nil,
		`(again )+`:                {"again "},
		`(twice ){2}`:              {"twice "},
		`.*`:                       nil,
		`(`:                        nil,
	} {
		if got := Needs(form); !slices.Equal(got, want) {
			t.Errorf("%s: %q, want %q", form, got, want)
		}
	}
}

func TestLate(t *testing.T) {
	t.Parallel()
	late := Late(`^a+$`)
	first, second := late(), late()
	if !first.MatchString("aa") || first != second {
		t.Error("it is read each time")
	}
}
