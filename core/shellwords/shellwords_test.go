package shellwords

import (
	"os/exec"
	"strings"
	"testing"
)

// FuzzJoin: a real shell reads the words back as they were.
func FuzzJoin(f *testing.F) {
	for _, word := range []string{"", "a", "a b", "it's", `"$HOME"`, "`id`", "a\nb", `\`, "~", "*", "!x",
		"#", "é", "-n"} {
		f.Add(word, "b")
		f.Add("b", word)
	}
	f.Fuzz(func(t *testing.T, a, b string) {
		if strings.Contains(a+b, "\x00") {
			t.Skip("no argument can hold it")
		}
		if read := FromGitPath(GitPath(a)); read != a {
			t.Errorf("%q becomes %q, and that %q", a, GitPath(a), read)
		}
		if out, err := exec.Command("sh", "-c", `printf '%s.' `+GitPath(a)).Output(); err != nil ||
			string(out) != a+"." {
			t.Errorf("%q becomes %q, which is read as %q (%v)", a, GitPath(a), out, err)
		}
		out, err := exec.Command("sh", "-c", `printf '%s\n%s\n.' `+Join(a, b)).Output()
		if err != nil || string(out) != a+"\n"+b+"\n." {
			t.Errorf("%q, %q become %q, which is read as %q (%v)", a, b, Join(a, b), out, err)
		}
	})
}

func TestQuote(t *testing.T) {
	t.Parallel()
	if got := Typed([]string{"ls", "~/a", "~/a b", "~x", "x=~"}); got != "ls ~/a '~/a b' '~x' 'x=~'" {
		t.Errorf("typed: %s", got)
	}
	if got := GitPath("it's!.git"); got != `'it'\''s'\!'.git'` { // some shells read "!" in apostrophes too
		t.Errorf("as git sends it: %s", got)
	}
	for word, want := range map[string]string{"": "''", "a.b/c": "a.b/c", "a b": "'a b'", "it's": `'it'\''s'`} {
		if got := Quote(word); got != want {
			t.Errorf("%q: %s", word, got)
		}
	}
}
