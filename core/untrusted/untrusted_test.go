package untrusted

import (
	"strings"
	"testing"
)

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
