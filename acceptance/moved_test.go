package acceptance

import (
	"os"
	"strings"
	"testing"
)

// elsewhere installs the program at another path.
func (p *person) elsewhere(parts ...string) (path string) {
	p.t.Helper()
	text := p.read2(program)
	p.write(text, parts...)
	p.chmod(0o755, parts...)
	return p.path(parts...)
}

// TestMovedProgram: settings start the program at a path from which it was moved. check names that, over HTTPS and
// where git starts ssh through it; where the way is open all the same it is a note. The settings are corrected once,
// and work.
func TestMovedProgram(t *testing.T) {
	t.Parallel()
	p := withHost(t).withChest()
	p.newToken()
	p.openChest()
	old := p.elsewhere("old place", "unicrux")
	for _, args := range [][]string{{"key", "new", "--host", "forge", "--no-passphrase"}, {"host", "trust", "forge"},
		{"key", "register", "forge_ed25519", "forge", "--token-from", p.host.TokenFile()},
		{"key", "load", "forge_ed25519"}, {"host", "set", "forge", "in-place=on"},
		{"ready", "forge", "--by", "https"}} {
		if r := p.run("", old, args...); r.exit != 0 {
			t.Fatalf("%s: %s", args, r)
		}
	}
	p.edit(program+" for-git credential", "\"!'"+old+"' for-git credential\"", ".config", "unicrux", "git.config")
	if err := os.Remove(old); err != nil {
		t.Fatal(err)
	}
	url := p.cloneHTTPS("buoys/drift-model")
	if r := p.git("ls-remote", url); r.exit == 0 {
		t.Fatalf("git finds it: %s", r)
	}
	before := p.without
	p.without = append(p.without, "GIT_SSH_COMMAND")
	for _, broken := range []string{url, drift} {
		c := p.check(broken)
		if c.Crux == nil || c.Crux.Code != "program-moved" || c.Crux.Certainty != "proved" || len(c.Mends) != 1 ||
			!*c.Mends[0].Automatic {
			t.Errorf("%s: %+v %+v", broken, c.Crux, c.Mends)
		}
	}
	failed := p.git("ls-remote", drift)
	p.without = before
	if read := p.explain(failed.out + failed.err); !read.Conclusive || read.Causes[0].Code != "program-moved" {
		t.Errorf("explain: %+v of %s", read, failed)
	}
	if r := p.must("check", "--mend", url); !strings.Contains(r.out, "start Unicrux where it is now") {
		t.Errorf("mended: %s", r)
	}
	for _, open := range []string{url, drift} {
		p.mustGit("ls-remote", open)
	}
	if ssh := p.read(".ssh", "unicrux.conf"); strings.Contains(ssh, "old place") || !strings.Contains(ssh, program) {
		t.Errorf("ssh starts %s", ssh)
	}
	p.must("undo")
	if got := p.read(".ssh", "unicrux.conf"); !strings.Contains(got, "old place") {
		t.Errorf("taken back: %s", got)
	}
	p.must("host", "set", "forge", "in-place=off")
	if c := p.check(drift); !c.Open || len(c.Notes) == 0 || c.Notes[len(c.Notes)-1].Code != "program-moved" {
		t.Errorf("open all the same: %+v", c)
	}
	if r := p.must("ready", "forge"); !strings.Contains(r.out, "start Unicrux where it is now") {
		t.Errorf("ready: %s", r)
	}
	if c := p.check(drift); !c.Open || len(c.Notes) > 0 && c.Notes[len(c.Notes)-1].Code == "program-moved" {
		t.Errorf("corrected: %+v", c)
	}
}
