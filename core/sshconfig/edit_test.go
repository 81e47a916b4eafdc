package sshconfig

import (
	"strings"
	"testing"
)

func TestEnsureInclude(t *testing.T) {
	const want = "# ours\nInclude ~/.ssh/unicrux.conf\n\nHost x\n"
	once := EnsureInclude([]byte("Host x\n"), "~/.ssh/unicrux.conf", "ours")
	if string(once) != want {
		t.Errorf("got %q, want %q", once, want)
	}
	if twice := EnsureInclude(once, "~/.ssh/unicrux.conf", "ours"); string(twice) != want {
		t.Errorf("the second time: %q", twice)
	}
	if inBlock := EnsureInclude([]byte("Host x\n  Include a\n"), "a", "ours"); !strings.HasPrefix(string(inBlock), "# ours\nInclude a\n") {
		t.Errorf("one inside a block was taken for ours: %q", inBlock)
	}
	if windows := EnsureInclude([]byte("Host x\r\n"), "a", "ours"); !strings.HasPrefix(string(windows), "# ours\r\nInclude a\r\n\r\nHost") {
		t.Errorf("line ends differ: %q", windows)
	}
	if spaced := EnsureInclude(nil, "/a b", "ours"); string(spaced) != "# ours\nInclude \"/a b\"\n" {
		t.Errorf("a path with a space: %q", spaced)
	}
}

func TestSetInBlock(t *testing.T) {
	const text = "# mine\nHost a\n\tPort  1 # keep\n\n\nHost b\n  User x\n  Port 2\n  Port 3"
	for _, row := range []struct {
		name     string
		host     string
		settings []Setting
		want     string
	}{
		{"as it is", "a", []Setting{{Keyword: "Port", Args: []string{"1"}}}, text},
		{"replace, and drop doubles", "b", []Setting{{Keyword: "Port", Args: []string{"4"}}},
			"# mine\nHost a\n\tPort  1 # keep\n\n\nHost b\n  User x\n    Port 4\n"},
		{"add", "a", []Setting{{Keyword: "User", Args: []string{"git"}}},
			"# mine\nHost a\n\tPort  1 # keep\n    User git\n\n\nHost b\n  User x\n  Port 2\n  Port 3"},
		{"take out", "b", []Setting{{Keyword: "Port"}}, "# mine\nHost a\n\tPort  1 # keep\n\n\nHost b\n  User x\n"},
		{"take out what is not there", "a", []Setting{{Keyword: "User"}}, text},
		{"new block", "c", []Setting{{Keyword: "IdentityFile", Args: []string{"/my keys/c"}}}, text + "\n\nHost c\n    IdentityFile \"/my keys/c\"\n"},
	} {
		got := string(SetInBlock([]byte(text), []string{row.host}, row.settings))
		if got != row.want {
			t.Errorf("%s:\n%q, want\n%q", row.name, got, row.want)
		}
		if again := string(SetInBlock([]byte(got), []string{row.host}, row.settings)); again != got {
			t.Errorf("%s: the second time changes it to %q", row.name, again)
		}
	}
}

func TestDropBlock(t *testing.T) {
	const text = "Host a\n  Port 1\n\nHost b\n  Port 2\n"
	if got := string(DropBlock([]byte(text), []string{"a"})); got != "Host b\n  Port 2\n" {
		t.Errorf("got %q", got)
	}
	if got := string(DropBlock([]byte(text), []string{"c"})); got != text {
		t.Errorf("a missing block: %q", got)
	}
}

func FuzzLine(f *testing.F) {
	for _, seed := range []string{"Host a b # c", "IdentityFile=\"~/x y\"", "Match host a user=b", `User a\ b`, "Port", "\"Host\" x"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, raw string) {
		l := parseLine(raw)
		if l.raw != raw {
			t.Fatalf("%q does not come back", raw)
		}
		if l.err != nil || l.keyword == "" || strings.ContainsAny(raw, "\r\n\f\x00") {
			return
		}
		again := parseLine(Setting{Keyword: l.keyword, Args: l.args}.text())
		if strings.ContainsAny(l.keyword, "\"= \t") || l.keyword[0] == '#' {
			return // only a quoted keyword has these, and we write none
		}
		if strings.Join(again.args, "\x00") != strings.Join(l.args, "\x00") {
			t.Fatalf("%q written again reads %q, not %q", raw, again.args, l.args)
		}
	})
}

func FuzzEdit(f *testing.F) {
	f.Add("Host a\n  Port 1\n\nHost b\n", "b")
	f.Add("", "x")
	f.Fuzz(func(t *testing.T, text, host string) {
		if host == "" || strings.ContainsAny(host, "\r\n\f\x00") || trimRight(host) != host {
			return
		}
		once := SetInBlock([]byte(text), []string{host}, []Setting{{Keyword: "Port", Args: []string{"7"}}})
		twice := SetInBlock(once, []string{host}, []Setting{{Keyword: "Port", Args: []string{"7"}}})
		if string(once) != string(twice) {
			t.Fatalf("%q: %q, then %q", text, once, twice)
		}
		for _, raw := range splitLines(text) {
			if l := parseLine(raw); l.keyword != "port" && !strings.Contains(string(once), raw) {
				t.Fatalf("%q lost the line %q", text, raw)
			}
		}
	})
}
