package hosts

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestMovedFrom finds the program that a line starts, as we and git write such lines.
func TestMovedFrom(t *testing.T) {
	t.Parallel()
	there := filepath.Join(t.TempDir(), "unicrux")
	if err := os.WriteFile(there, nil, 0o700); err != nil {
		t.Fatal(err)
	}
	for _, row := range []struct{ line, want string }{
		{"\thelper = /gone/unicrux for-git credential", "/gone/unicrux"},
		{`	helper = "!'/gone one/unicrux' for-git credential"`, "/gone one/unicrux"},
		{"\tsshCommand = '/gone/u' for-git ssh", "/gone/u"},
		{"    ProxyCommand '/gone/100%%/u' for-git connect socks5://h:1 %h %p", "/gone/100%/u"},
		{`Match host forge exec "'/gone/u' holder start --quiet 2>/dev/null"`, "/gone/u"},
		{"\thelper = " + there + " for-git credential", ""},
		{"\thelper = /gone/unicrux for-git credentials", ""},
		{"\thelper = unicrux for-git credential", ""}, // wherever the path leads
		{"\thelper = store", ""},
		{"", ""},
	} {
		if got := movedFrom(row.line); got != row.want {
			t.Errorf("%q: %q, want %q", row.line, got, row.want)
		}
	}
	text := "Host a\n    ProxyCommand '/gone/u' for-git connect http://h:1 %h %p\nMatch host a exec \"'" + there +
		"' holder start --quiet\"\n    IdentityFile ~/.ssh/a"
	want := strings.Replace(text, "'/gone/u'", "'/now/100%%/u'", 1)
	if got := string(repointed([]byte(text), "'/now/100%%/u'")); got != want {
		t.Errorf("%q", got)
	}
}
