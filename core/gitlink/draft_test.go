package gitlink

import (
	"context"
	"errors"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"anchorage.example/unicrux/agreement"
)

// TestAssign writes what was meant and leaves everything else byte for byte.
func TestAssign(t *testing.T) {
	t.Parallel()
	s := station(t, "")
	const helper = "credential.https://forge.tidewater.example.helper"
	for name, c := range map[string]struct {
		old  string
		list []Assignment
		want string
	}{
		"into nothing": {"",
			[]Assignment{{Key: helper, Values: []string{"", "/usr/bin/unicrux for-git credential"}}},
			"[credential \"https://forge.tidewater.example\"]\n\thelper = \n\thelper = /usr/bin/unicrux for-git credential\n"},
		"spaces stay": {"[user]\n  name=Ines ; me\n",
			[]Assignment{{Key: "user.email", Values: []string{"ines@tidewater.example"}}},
			"[user]\n  name=Ines ; me\n\temail = ines@tidewater.example\n"},
		"a comment stays": {"[user]\n  name=Ines ; me\n",
			[]Assignment{{Key: "user.name", Values: []string{"Ines #2"}}}, "[user]\n  name = \"Ines #2\" ; me\n"},
		"no line end": {"[user]\n\tname = a", []Assignment{{Key: "user.email", Values: []string{"b"}}},
			"[user]\n\tname = a\n\temail = b\n"},
		"the last of its name": {"[user]\n\tname = a\n[x]\n\ty = z\n[user]\n\tname = b\n",
			[]Assignment{{Key: "user.email", Values: []string{"c"}}},
			"[user]\n\tname = a\n[x]\n\ty = z\n[user]\n\tname = b\n\temail = c\n"},
		"an include comes last": {"[include]\n\tpath = a\n[credential]\n\thelper = store\n",
			[]Assignment{{Key: "include.path", Values: []string{"b"}, Beside: true}},
			"[include]\n\tpath = a\n[credential]\n\thelper = store\n[include]\n\tpath = b\n"},
		"an include is there": {"[include]\n\tpath = a\n[credential]\n\thelper = store\n",
			[]Assignment{{Key: "include.path", Values: []string{"a"}, Beside: true}},
			"[include]\n\tpath = a\n[credential]\n\thelper = store\n"},
		"a section goes": {"# mine\n[x]\n\ty = z\n[user]\n\tname = a\n\n[w]\n\tv = u\n",
			[]Assignment{{Key: "user.name"}}, "# mine\n[x]\n\ty = z\n\n[w]\n\tv = u\n"},
		"not one with a comment": {"[user]\n\t# why\n\tname = a\n", []Assignment{{Key: "user.name"}},
			"[user]\n\t# why\n"},
		"on the head's line": {"[user] name = a\n\temail = b\n", []Assignment{{Key: "user.name"}},
			"[user] \n\temail = b\n"},
		"a value of many lines": {"[user]\n\tname = a \\\n   b\n\temail = c\n",
			[]Assignment{{Key: "user.name", Values: []string{"d"}}}, "[user]\n\tname = d\n\temail = c\n"},
		"without a value": {"[http \"https://a\"]\n\tproxy\n",
			[]Assignment{{Key: "http.https://a.proxy", Values: []string{"p"}}}, "[http \"https://a\"]\n\tproxy = p\n"},
		"fewer values": {"[remote \"o\"]\n\turl = a\n\turl = b\n\tfetch = f\n",
			[]Assignment{{Key: "remote.o.url", Values: []string{"c"}}}, "[remote \"o\"]\n\turl = c\n\tfetch = f\n"},
		"ends of another system": {"[user]\r\n\tname = a\r\n",
			[]Assignment{{Key: "user.email", Values: []string{"b"}}, {Key: "url.x.insteadOf", Values: []string{"y"}}},
			"[user]\r\n\tname = a\r\n\temail = b\r\n[url \"x\"]\r\n\tinsteadOf = y\r\n"},
		"the same key twice": {"[credential \"h\"]\n\thelper = \n\thelper = x\n",
			[]Assignment{{Key: "credential.h.helper"}, {Key: "credential.h.helper"}}, ""},
		"one of several": {"[include]\n\tpath = a ; first\n\tpath = b\n\tpath = c\n",
			[]Assignment{{Key: "include.path", Values: []string{"a"}, Without: true}},
			"[include]\n\tpath = b\n\tpath = c\n"},
		"quotes": {"",
			[]Assignment{{Key: `url.a"b\c.insteadOf`, Values: []string{`say "x\y"`, " z "}}},
			"[url \"a\\\"b\\\\c\"]\n\tinsteadOf = say \\\"x\\\\y\\\"\n\tinsteadOf = \" z \"\n"},
		"after a mark": {"\xef\xbb\xbf[user]\n\tname = a\n",
			[]Assignment{{Key: "user.name", Values: []string{"b"}}}, "\xef\xbb\xbf[user]\n\tname = b\n"},
	} {
		got, err := Assign(context.Background(), s, []byte(c.old), c.list)
		if err != nil || string(got) != c.want {
			t.Errorf("%s: %v\ngot  %q\nwant %q", name, err, got, c.want)
		}
	}
}

// TestAssignRefuses leaves alone what git refuses, or what is not to be written.
func TestAssignRefuses(t *testing.T) {
	t.Parallel()
	s := station(t, "")
	for name, c := range map[string]struct {
		old string
		a   Assignment
	}{
		"another variable":    {"", Assignment{Key: "core.editor", Values: []string{"x"}}},
		"a control character": {"", Assignment{Key: "user.name", Values: []string{"a\x1bb"}}},
	} {
		if got, err := Assign(context.Background(), s, []byte(c.old), []Assignment{c.a}); !errors.Is(err,
			ErrUnwritable) {
			t.Errorf("%s: %q, %v", name, got, err)
		}
	}
	for _, old := range []string{"[user\n", "[user]\n\tname = \"a\n", "[user]\n\t1x = a\n", "[a b]\n",
		"[user]\n\tname # = a\n", "[user]\n\tname = a\\x\n"} {
		if got, err := Assign(context.Background(), s, []byte(old),
			[]Assignment{{Key: "user.name", Values: []string{"b"}}}); err == nil {
			t.Errorf("%q became %q", old, got)
		}
	}
}

// TestSyntaxAgreesWithGit compares where we see variables with what git lists, over generated texts.
func TestSyntaxAgreesWithGit(t *testing.T) {
	t.Parallel()
	s := station(t, "")
	pieces := []string{"[a]", "[A.b]", "[a \"B c\"]", "[a  \"q\\\"\\\\\"]", "\n", "\r\n", "\n\n", " ", "\t", "x",
		"Y-1", "name", " = ", "=", "v", "two words", "\"quo ; ted\"", "\"open", "\\\n", "\\t", "# c", "; c", "\r", "]",
		"\xef\xbb\xbf", "é"}
	accepted := 0
	tally := agreement.Of(t, "git: the text of its settings")
	for seed := range agreement.Rounds(400) {
		r := rand.New(rand.NewPCG(uint64(seed), 7))
		text := ""
		if r.IntN(3) > 0 {
			text = "[s]\n"
		}
		for range 1 + r.IntN(9) {
			if r.IntN(3) == 0 {
				text += "\n" + pieces[10+r.IntN(3)] + " = " + pieces[15+r.IntN(3)] + "\n"
			}
			text += pieces[r.IntN(len(pieces))]
		}
		entries, err := gitsEntries(context.Background(), s, []byte(text))
		at, ok := syntaxOf([]byte(text))
		if ok && err == nil {
			accepted++
		}
		agree := ok == (err == nil) && (!ok || slices.EqualFunc(at.variables, entries, func(v variable, e Entry) bool {
			return v.key == e.Key && v.value == e.Value
		}))
		tally.Case(agree, "seed %d: %q: we read %v %+v, git %v %v", seed, text, ok, at.variables, entries, err)
	}
	if accepted < 15 {
		t.Errorf("only %d texts say something", accepted)
	}
}

// FuzzAssign: whatever git reads is changed as was meant, and only there.
func FuzzAssign(f *testing.F) {
	f.Add("[user]\n\tname = a ; b\n", "name", "c")
	f.Add("[user] name = a\\\n b\r\n[x \"y\"]\nz\n", "email", " d ")
	f.Fuzz(func(t *testing.T, text, variable, value string) {
		at, ok := syntaxOf([]byte(text))
		if !ok {
			return
		}
		last := 0
		entries := make([]Entry, len(at.variables))
		for i, v := range at.variables {
			if v.from < last || v.named < v.from || v.to < v.named || v.end < v.to || v.end > len(text) {
				t.Fatalf("%q: %+v", text, at.variables)
			}
			last = v.end
			entries[i] = Entry{Key: v.key, Value: text[v.named:v.to]}
		}
		d := newDraft([]byte(text), at, entries)
		if got := d.text(); string(got) != text {
			t.Fatalf("%q became %q", text, got)
		}
		if variable != "name" && variable != "email" ||
			d.assign(Assignment{Key: "user." + variable, Values: []string{value}}) != nil || !d.changes() {
			return
		}
		written := d.text()
		after, ok := syntaxOf(written)
		count := 0
		for _, v := range after.variables {
			if v.key == "user."+variable {
				count++
			}
		}
		if others := len(slices.DeleteFunc(slices.Clone(entries),
			func(e Entry) bool { return e.Key == "user."+variable })); !ok || count != 1 ||
			len(after.variables) != others+1 {
			t.Fatalf("%q became %q", text, written)
		}
		for _, s := range at.sections {
			if !strings.Contains(string(written), text[s.from:s.from+1]) {
				t.Fatalf("%q became %q", text, written)
			}
		}
	})
}
