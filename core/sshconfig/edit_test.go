package sshconfig

import (
	"errors"
	"strings"
	"testing"
)

// written fails the test where nothing may be written, and gives the text where it may.
func written(t testing.TB) func(text []byte, err error) string {
	return func(text []byte, err error) string {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
		return string(text)
	}
}

func TestEnsureInclude(t *testing.T) {
	text := written(t)
	const want = "# ours\nInclude ~/.ssh/unicrux.conf\n\nHost x\n"
	once := text(EnsureInclude([]byte("Host x\n"), "~/.ssh/unicrux.conf", "ours"))
	if once != want {
		t.Errorf("got %q, want %q", once, want)
	}
	if twice := text(EnsureInclude([]byte(once), "~/.ssh/unicrux.conf", "ours")); twice != want {
		t.Errorf("the second time: %q", twice)
	}
	if inBlock := text(EnsureInclude([]byte("Host x\n  Include a\n"), "a", "ours")); !strings.HasPrefix(inBlock,
		"# ours\nInclude a\n") {
		t.Errorf("one inside a block was taken for ours: %q", inBlock)
	}
	if windows := text(EnsureInclude([]byte("Host x\r\n"), "a", "ours")); !strings.HasPrefix(windows,
		"# ours\r\nInclude a\r\n\r\nHost") {
		t.Errorf("line ends differ: %q", windows)
	}
	if spaced := text(EnsureInclude(nil, "/a b", "ours")); spaced != "# ours\nInclude \"/a b\"\n" {
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
		{"new block", "c", []Setting{{Keyword: "IdentityFile", Args: []string{"/my keys/c"}}},
			text + "\n\nHost c\n    IdentityFile \"/my keys/c\"\n"},
	} {
		got := written(t)(SetInBlock([]byte(text), []string{row.host}, row.settings))
		if got != row.want {
			t.Errorf("%s:\n%q, want\n%q", row.name, got, row.want)
		}
		if again := written(t)(SetInBlock([]byte(got), []string{row.host}, row.settings)); again != got {
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
	for _, seed := range []string{"Host a b # c", "IdentityFile=\"~/x y\"", "Match host a user=b", `User a\ b`, "Port",
		"\"Host\" x"} {
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
		again := parseLine(joined(l.keyword, l.args))
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
		once, err := SetInBlock([]byte(text), []string{host}, []Setting{{Keyword: "Port", Args: []string{"7"}}})
		if err != nil {
			if isPattern(host) {
				t.Fatal(err)
			}
			return
		}
		twice := written(t)(SetInBlock(once, []string{host}, []Setting{{Keyword: "Port", Args: []string{"7"}}}))
		if string(once) != twice {
			t.Fatalf("%q: %q, then %q", text, once, twice)
		}
		for _, raw := range splitLines(text) {
			if l := parseLine(raw); l.keyword != "port" && !strings.Contains(string(once), raw) {
				t.Fatalf("%q lost the line %q", text, raw)
			}
		}
	})
}

// FuzzSetting holds the last writer to its promise, whatever a caller asks for: one block, one line
// in it with the keyword that was asked for, and no byte that the client takes for the end of a word.
func FuzzSetting(f *testing.F) {
	for _, seed := range [][3]string{{"a", "HostName", "::1%h\nHost\r*\nProxyCommand\rtrue"}, {"a", "Port", "22"},
		{"a\rb", "User", "git"}, {"a", "ProxyCommand", "x\x0bHost *"},
		{"a", "User\nHost", "*"}, {"a", "IdentityFile", "/a b\"c\\d"}, {"a", "LocalCommand", "true"},
		{"a", "ProxyJump", "a,b@c:22"}} {
		f.Add(seed[0], seed[1], seed[2])
	}
	f.Fuzz(func(t *testing.T, host, keyword, arg string) {
		for _, setting := range []Setting{{Keyword: keyword, Args: []string{arg}}, {Keyword: keyword, Line: arg}} {
			text, err := SetInBlock(nil, []string{host}, []Setting{setting})
			if err != nil || setting.takesOut() {
				continue
			}
			lines := strings.Split(strings.TrimSuffix(string(text), "\n"), "\n")
			if len(lines) != 2 || lines[0] != "Host "+host {
				t.Fatalf("%q %q %q writes %q", host, keyword, arg, text)
			}
			for i := range lines[1] {
				if lines[1][i] < ' ' || lines[1][i] == 0x7f {
					t.Fatalf("%q %q %q writes %q", host, keyword, arg, text)
				}
			}
			if l := parseLine(lines[1]); l.keyword != strings.ToLower(keyword) || writable[l.keyword] == nil {
				t.Fatalf("%q %q %q reads as %q", host, keyword, arg, l.keyword)
			}
		}
	})
}

// TestUnwritable has what must never get into the client's files.
func TestUnwritable(t *testing.T) {
	t.Parallel()
	for _, setting := range []Setting{
		{Keyword: "HostName", Args: []string{"::1%h"}}, {Keyword: "HostName", Args: []string{"a\nHost *"}},
		{Keyword: "HostName", Args: []string{"a\rb"}},
		{Keyword: "IdentityFile", Args: []string{"/a\rProxyCommand x"}},
		{Keyword: "ProxyCommand", Line: "true\nHost *"}, {Keyword: "LocalCommand", Line: "true"},
		{Keyword: "User", Args: []string{"$(x)"}}, {Keyword: "ProxyJump", Args: []string{"a b"}},
		{Keyword: "Port", Args: []string{"22 23"}}, {Keyword: "Port\n", Args: []string{"1"}},
		{Keyword: "Host", Args: []string{"a"}}, {Keyword: "Match", Line: "all"},
	} {
		if text, err := SetInBlock(nil, []string{"a"}, []Setting{setting}); !errors.Is(err, ErrUnwritable) {
			t.Errorf("%+v: %q, %v", setting, text, err)
		}
	}
	for _, host := range []string{"*", "a b", "a\r*", "", "!a", "-a"} {
		if text, err := SetInBlock(nil, []string{host}, nil); !errors.Is(err, ErrUnwritable) {
			t.Errorf("Host %q: %q, %v", host, text, err)
		}
		if text, err := SetMatchExec(nil, host, "true"); !errors.Is(err, ErrUnwritable) {
			t.Errorf("Match %q: %q, %v", host, text, err)
		}
	}
	if text, err := SetMatchExec(nil, "a", "true\nHost *"); !errors.Is(err, ErrUnwritable) {
		t.Errorf("%q, %v", text, err)
	}
	if text, err := EnsureInclude(nil, "a\nHost *", "ours"); !errors.Is(err, ErrUnwritable) {
		t.Errorf("%q, %v", text, err)
	}
}
