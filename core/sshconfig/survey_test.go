package sshconfig

import (
	"os"
	"os/user"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// TestKeyFiles finds every line that names a key, whichever host it is for.
func TestKeyFiles(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	write := func(name, text string) string {
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		return path
	}
	inner := write("inner", "IdentityFile /keys/inner\nHost c\n  IdentityFile /keys/c\n")
	config := write("config",
		"IdentityFile ~/first\nHost a b\n  IdentityFile=\"/keys/with space\"\n  Include "+inner+"\n"+
			"Match host x exec \"false\"\n  IdentityFile %d/matched\n  identityfile /keys/%h\nHost !z\n  Port 22\n")
	p := Person{Home: "/home/ines", User: "ines", Getenv: func(string) string { return "" }}
	var got []string
	for _, mention := range KeyFiles(Query{Command: CommandLine{Config: config}, Person: p}) {
		got = append(got, mention.Block+"|"+filepath.ToSlash(mention.Path))
	}
	want := []string{"|/home/ines/first", "Host a b|/keys/with space", "|/keys/inner", "Host c|/keys/c",
		`Match host x exec "false"|/home/ines/matched`, `Match host x exec "false"|/keys/%h`}
	if !slices.Equal(got, want) {
		t.Errorf("got  %s\nwant %s", strings.Join(got, "\n     "), strings.Join(want, "\n     "))
	}
	if !IsDefaultKey(p, "/home/ines/.ssh/id_rsa") || IsDefaultKey(p, "/home/ines/id_rsa") ||
		IsDefaultKey(p, "/home/ines/.ssh/other") {
		t.Error("which keys ssh tries by itself")
	}
}

// TestSetMatchExec puts a line at the end, replaces it, and takes it out.
func TestSetMatchExec(t *testing.T) {
	t.Parallel()
	const own = "Host a\n    Port 22\n"
	for _, row := range []struct{ name, text, command, want string }{
		{"added", own, "'/x/unicrux' start", own + "\nMatch originalhost a exec \"'/x/unicrux' start\"\n"},
		{"added to an unfinished line", "Host a", "x", "Host a\n\nMatch originalhost a exec \"x\"\n"},
		{"there already", own + "\nMatch originalhost a exec \"x\"\n", "x",
			own + "\nMatch originalhost a exec \"x\"\n"},
		{"replaced", own + "\nMatch originalhost a exec \"old one\"\n", "x",
			own + "\nMatch originalhost a exec \"x\"\n"},
		{"taken out", own + "\nMatch originalhost a exec \"old\"\n", "", own},
		{"another host's stays", own + "\nMatch originalhost b exec \"x\"\n", "",
			own + "\nMatch originalhost b exec \"x\"\n"},
		{"a person's stays", own + "\nMatch originalhost a exec \"x\" user me\n", "",
			own + "\nMatch originalhost a exec \"x\" user me\n"},
		{"other line ends", "Host a\r\n", "x", "Host a\r\n\r\nMatch originalhost a exec \"x\"\r\n"},
	} {
		if got := written(t)(SetMatchExec([]byte(row.text), "a", row.command)); got != row.want {
			t.Errorf("%s: %q, want %q", row.name, got, row.want)
		}
	}
	blocks := Blocks([]byte("Host a b\nMatch all\nHost c\n"))
	if len(blocks) != 2 || !slices.Equal(blocks[0], []string{"a", "b"}) {
		t.Errorf("blocks %q", blocks)
	}
	if got := InBlock([]byte("Host a\n IdentityFile x\n IdentityFile y\nHost b\n IdentityFile z\n"), []string{"a"},
		"identityfile"); !slices.Equal(got, []string{"x", "y"}) {
		t.Errorf("in block: %q", got)
	}
}

// TestMatchExecWithoutSettings: where nothing depends on it, nothing is left open.
func TestMatchExecWithoutSettings(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]int{
		"Match exec \"false\"\nHost x\n  Port 1\n":                 0,
		"Match exec \"false\"\n# nothing\n\n":                      0,
		"Match exec \"false\"\n  Port 1\n":                         1,
		"Match host other exec \"false\"\n  Port 1\n":              0,
		"Match exec \"false\"\nMatch exec \"true\"\n  User ines\n": 1,
	} {
		if s := resolveText(t, text, "x"); len(s.Unknown) != want {
			t.Errorf("%q: %+v", text, s.Unknown)
		}
	}
}

// TestTilde expands home folders as the client does.
func TestTilde(t *testing.T) {
	t.Parallel()
	p := Person{Home: "/home/ines"}
	root, err := user.Lookup("root")
	if err != nil {
		t.Fatal(err)
	}
	for text, want := range map[string]string{"~/x": "/home/ines/x", "~": "/home/ines",
		"~root/.ssh/x": filepath.ToSlash(root.HomeDir) + "/.ssh/x", "~nobody-of-that-name/x": "~nobody-of-that-name/x",
		"/x/~y": "/x/~y"} {
		if got := filepath.ToSlash(p.tilde(text)); got != want {
			t.Errorf("%s is %s, want %s", text, got, want)
		}
	}
}
