package acceptance

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
)

// TestFiftyAtOnce loses no setting of fifty commands that run at once.
func TestFiftyAtOnce(t *testing.T) {
	t.Parallel()
	p := newPerson(t)
	var group sync.WaitGroup
	for i := range 50 {
		group.Go(func() {
			if r := p.unicrux("host", "set", fmt.Sprintf("buoy-%d.example", i), fmt.Sprintf("port=%d", 1000+i), "by=ssh"); r.exit != 0 {
				t.Errorf("%d: %s", i, r)
			}
		})
	}
	group.Wait()
	ssh, git := p.read(".ssh", "unicrux.conf"), p.read(".config", "unicrux", "git.config")
	for i := range 50 {
		if !strings.Contains(ssh, fmt.Sprintf("Host buoy-%d.example\n    Port %d\n", i, 1000+i)) || !strings.Contains(git, fmt.Sprintf("https://buoy-%d.example/", i)) {
			t.Errorf("%d is lost", i)
		}
	}
	if n := strings.Count(p.read(".ssh", "config"), "Include"); n != 1 {
		t.Errorf("%d Include lines", n)
	}
	if n := len(p.changes()); n != 50 {
		t.Errorf("%d changes in the record", n)
	}
}

// TestEditsThatFail has a full disk, a folder where nothing may be written, and one of
// somebody else's: nothing is changed, and a sentence says why.
func TestEditsThatFail(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	text, err := os.ReadFile(program)
	if err != nil {
		t.Fatal(err)
	}
	copied := filepath.Join(dir, "unicrux")
	if err := os.WriteFile(copied, text, 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(filepath.Dir(dir), 0o755); err != nil {
		t.Fatal(err)
	}
	as := func(p *person, line string) result {
		command := []string{"-c", line}
		if os.Geteuid() == 0 { // root may write everywhere, so it is somebody else
			return p.run("", need(t, "setpriv"), append([]string{"--reuid=65534", "--clear-groups", "sh"}, command...)...)
		}
		return p.run("", "sh", command...)
	}
	for name, row := range map[string]struct {
		before string // run in the home as its owner
		line   string
		want   string
	}{
		"nothing may be written":     {"chmod 500 .ssh", copied + " host set forge.example port=7", "permission denied"},
		"no file may grow":           {"true", "ulimit -f 0; " + copied + " host set forge.example port=7", "file too large"},
		"a file that cannot be read": {"chmod 000 .ssh/config", copied + " host set forge.example port=7", "permission denied"},
	} {
		t.Run(name, func(t *testing.T) {
			p := newPerson(t)
			p.write("Host mine\n    Port 1\n", ".ssh", "config")
			for dir := p.home; dir != filepath.Clean(os.TempDir()); dir = filepath.Dir(dir) {
				if err := os.Chmod(dir, 0o755); err != nil {
					t.Fatal(err)
				}
			}
			if os.Geteuid() == 0 {
				if r := p.run("", "chown", "-R", "65534", p.home); r.exit != 0 {
					t.Fatal(r)
				}
			}
			if r := as(p, row.before); r.exit != 0 {
				t.Fatal(r)
			}
			r := as(p, row.line)
			if r.exit != 3 || !strings.Contains(r.err, row.want) || !strings.Contains(r.err, "Not done:") {
				t.Errorf("%s", r)
			}
			if err := os.Chmod(p.path(".ssh", "config"), 0o600); err != nil {
				t.Fatal(err)
			}
			if got := p.read(".ssh", "config"); got != "Host mine\n    Port 1\n" {
				t.Errorf("the file is %q now", got)
			}
			if left, err := filepath.Glob(p.path(".ssh", ".unicrux-*")); err != nil || len(left) > 0 {
				t.Errorf("left behind: %v, %v", left, err)
			}
			_ = os.Chmod(p.path(".ssh"), 0o700) // so that it can be cleared away
		})
	}
}
