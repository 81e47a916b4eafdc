package render

import "testing"

func TestShown(t *testing.T) {
	t.Parallel()
	colours := Style{Depth: TrueColour}
	for _, row := range []struct{ text, want string }{
		{"  crux  The host\n\ttab ═ é\n", "  crux  The host\n\ttab ═ é\n"},
		{colours.paint(rose, "broken") + "\n", colours.paint(rose, "broken") + "\n"},
		{"a\x1b[2Jb\x1b[1Ac\x1b]52;c;eA==\ad", "a[2Jb[1Ac]52;c;eA==d"},
		{"a\x1b[8mhidden\x1b[0m", "a[8mhidden\x1b[0m"},
		{"over\rwritten", "overwritten"},
		{"\u202eturned", "turned"},
		{"\xff\x1b", "\xff"},
		{"\u009b31m", "31m"},
	} {
		if got := Shown(row.text); got != row.want {
			t.Errorf("%q: %q, want %q", row.text, got, row.want)
		}
	}
}
