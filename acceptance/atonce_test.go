package acceptance

import (
	"io"
	"os/exec"
	"regexp"
	"strings"
	"testing"
)

// prepared finds what was prepared after package os, in what the runtime tells about a start.
var prepared = regexp.MustCompile(`(?s)\ninit os @.*(\ninit [^\n]*)`)

// TestAnswersAtOnce holds that git is answered before anything of the program is prepared that it does not take, and
// that the rest of the program is there for whatever the holder does not know.
func TestAnswersAtOnce(t *testing.T) {
	t.Parallel()
	p := withHost(t).withChest()
	if r := p.newToken(); r.exit != 0 {
		t.Fatal(r)
	}
	p.extra = append(p.extra, "GODEBUG=inittrace=1")
	host := p.webHost()
	get := func() result {
		return p.run("protocol=https\nhost="+host+"\n\n", program, "for-git", "credential", "get")
	}
	p.must("chest", "close")
	if r := get(); r.out != "" || !strings.Contains(r.err, "unicrux chest open") || !prepared.MatchString(r.err) {
		t.Errorf("a closed chest: %s", r)
	}
	p.openChest()
	if r := get(); !strings.Contains(r.out, "password=tide-") || !strings.Contains(r.err, "\ninit os @") ||
		prepared.MatchString(r.err) {
		t.Errorf("an open chest: %s", r)
	}
	token := strings.TrimSpace(p.read2(p.host.TokenFileOf("lab")))
	for _, early := range []bool{false, true} { // it is kept, and then it is known
		r := p.run("protocol=https\nhost="+host+"\nusername=lab\npassword="+token+"\n", program, "for-git",
			"credential", "store")
		if r.out != "" || r.exit != 0 || prepared.MatchString(r.err) == early {
			t.Errorf("stored: %s", r)
		}
	}
	p.extra = append(p.extra, "UNICRUX_DATA="+p.path("other"))
	if r := get(); r.out != "" || r.exit != 0 || !prepared.MatchString(r.err) {
		t.Errorf("another chest than the open one: %s", r)
	}
}

// TestAsksSlowly gives git's question in two parts, and leaves the input open behind it.
func TestAsksSlowly(t *testing.T) {
	t.Parallel()
	p := withHost(t).withChest()
	if r := p.newToken(); r.exit != 0 {
		t.Fatal(r)
	}
	p.openChest()
	host := p.webHost()
	for name, more := range map[string]string{"at once": "",
		"the long way": "path=" + strings.Repeat("a", 5000) + "\n"} {
		cmd := exec.Command(program, "for-git", "credential", "get")
		cmd.Dir, cmd.Env = p.folder, p.environ()
		in, err := cmd.StdinPipe()
		if err != nil {
			t.Fatal(err)
		}
		out, err := cmd.StdoutPipe()
		if err != nil {
			t.Fatal(err)
		}
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		for _, part := range []string{"protocol=https\nho", "st=" + host + "\n", more, "\n"} {
			if _, err := io.WriteString(in, part); err != nil {
				t.Fatal(err)
			}
		}
		text, err := io.ReadAll(out)
		if err != nil || !strings.Contains(string(text), "password=tide-") {
			t.Errorf("%s: %q, %v", name, text, err)
		}
		if err := cmd.Wait(); err != nil {
			t.Errorf("%s: %v", name, err)
		}
	}
}
