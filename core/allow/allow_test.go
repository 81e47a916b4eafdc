package allow

import (
	"strings"
	"testing"
)

func TestAllowed(t *testing.T) {
	t.Parallel()
	for _, row := range []struct {
		name  string
		allow func(string) bool
		yes   []string
		no    []string
	}{
		{"Name", Name, []string{"forge", "a-1", "forge-"},
			[]string{"", "1a", "_x", "-a", "Forge", "a/b", "a b", "a\n", "aéb", strings.Repeat("a", 32)}},
		{"Host", Host, []string{"forge.tidewater.example", "127.0.0.1", "a"},
			[]string{"", "-a", "a-", "a.", "a b", "a\r", "::1", "a%h", "ſ.example", "_x", "a\"b", "a/b",
				strings.Repeat("a", 254)}},
		{"IP", IP, []string{"127.0.0.1", "::1", "fe80::1"},
			[]string{"", "::1%h", "fe80::1%eth0", "::1%h\nHost\r*", "a", "127.0.0.1 ", "[::1]"}},
		{"Login", Login, []string{"git", "ines.marlow", "_x"}, []string{"", "-x", "a b", "a;b", "a@b", "a\nb", "$(x)"}},
		{"RemoteUser", RemoteUser, []string{"", "git", "a b", "a$b", "a@b", "a%b", "a!b", "é", "a\\b"},
			[]string{"-a", "a;b", "a`b", "a'b", `a"b`, "a&b", "a|b", "a<b", "a>b", "$(a)", "{a}", "a -b",
				"a\t-b", "a\\"}},
		{"RemoteHost", RemoteHost, []string{"", "forge.tidewater.example", "a_b", "[::1]", "a%b", "é"},
			[]string{"-a", "a;b", "a$b", "a b", "a`b", "a\\b", "a\nb", "a\rb", "a'b", "{a}"}},
		{"Number", Number, []string{"22", "0"}, []string{"", "-1", "1 ", "22\n", "0x1"}},
		{"Line", Line, []string{"", "a b", "é", "#\"'\\"},
			[]string{"a\n", "\r", "a\tb", "\x00", "\x1b[31m", "\x7f", "\f"}},
	} {
		for _, text := range row.yes {
			if !row.allow(text) {
				t.Errorf("%s refuses %q", row.name, text)
			}
		}
		for _, text := range row.no {
			if row.allow(text) {
				t.Errorf("%s allows %q", row.name, text)
			}
		}
	}
}

// TestSameHost compares ASCII letters alone (RFC 4343): the Kelvin sign and the long s are folded
// onto "k" and "s" by Unicode, and are other names.
func TestSameHost(t *testing.T) {
	t.Parallel()
	for _, row := range []struct {
		a, b string
		same bool
	}{
		{"Forge.Tidewater.example", "forge.tidewater.EXAMPLE", true},
		{"a:2222", "A:2222", true},
		{"kelp.example", "\u212aelp.example", false},
		{"sand.example", "\u017fand.example", false},
		{"a", "ab", false},
		{"a@b", "a`b", false},
	} {
		if got := SameHost(row.a, row.b); got != row.same || (LowerHost(row.a) == LowerHost(row.b)) != row.same {
			t.Errorf("%q and %q: %v", row.a, row.b, got)
		}
	}
}
