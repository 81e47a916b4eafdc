package acceptance

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"anchorage.example/unicrux/agreement"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/workstation"
)

// TestFiftyAtOnce loses no setting of fifty commands that run at once.
func TestFiftyAtOnce(t *testing.T) {
	t.Parallel()
	p := newPerson(t)
	var group sync.WaitGroup
	for i := range 50 {
		group.Go(func() {
			if r := p.unicrux("host", "set", fmt.Sprintf("buoy-%d.example", i), fmt.Sprintf("port=%d", 1000+i),
				"by=ssh"); r.exit != 0 {
				t.Errorf("%d: %s", i, r)
			}
		})
	}
	group.Wait()
	ssh, git := p.read(".ssh", "unicrux.conf"), p.read(".config", "unicrux", "git.config")
	for i := range 50 {
		if !strings.Contains(ssh, fmt.Sprintf("Host buoy-%d.example\n    Port %d\n", i, 1000+i)) ||
			!strings.Contains(git, fmt.Sprintf("https://buoy-%d.example/", i)) {
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
	if err := agreement.WriteProgram(copied, text, 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(filepath.Dir(dir), 0o755); err != nil {
		t.Fatal(err)
	}
	as := func(p *person, line string) result {
		command := []string{"-c", line}
		if os.Geteuid() == 0 { // root may write everywhere, so it is somebody else
			return p.run("", need(t, "setpriv"), append([]string{"--reuid=65534", "--clear-groups", "sh"},
				command...)...)
		}
		return p.run("", "sh", command...)
	}
	for name, row := range map[string]struct {
		before string // run in the home as its owner
		line   string
		want   string
	}{
		"nothing may be written": {"chmod 500 .ssh", copied + " host set forge.example port=7",
			"permission denied"},
		"no file may grow": {"true", "ulimit -f 0; " + copied + " host set forge.example port=7",
			"file too large"},
		"a file with two names":   {"ln .ssh/config other", copied + " host set forge.example port=7", "hard links"},
		"a file of somebody else": {"true", copied + " host set forge.example port=7", "belongs to another user"},
		"a file that cannot be read": {"chmod 000 .ssh/config", copied + " host set forge.example port=7",
			"permission denied"},
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
			if name == "a file of somebody else" {
				if os.Geteuid() != 0 {
					return // nobody else can make one
				}
				if err := os.Chown(p.path(".ssh", "config"), 12345, -1); err != nil ||
					os.Chmod(p.path(".ssh", "config"), 0o644) != nil {
					t.Fatal(err)
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

// TestSetCutShort cuts the writing of settings short before and after every step: each time
// ssh and git read what is there, and the next run finishes.
func TestSetCutShort(t *testing.T) {
	t.Parallel()
	cut := errors.New("cut short")
	for at := 1; ; at++ {
		p := newPerson(t)
		p.write("Host mine\n    Port 1\n", ".ssh", "config")
		p.write("[user]\n\tname = Ines Marlow\n", ".gitconfig")
		station, err := workstation.Here(p.environ())
		if err != nil {
			t.Fatal(err)
		}
		points := 0
		set := func(fault func(string)) (err error) {
			defer func() {
				if cause := recover(); cause != nil && cause != any(cut) {
					panic(cause)
				} else if cause != nil {
					err = cut
				}
			}()
			if _, err := station.Tidy(); err != nil {
				t.Fatal(err)
			}
			registry, err := hosts.Open(station)
			if err != nil {
				t.Fatal(err)
			}
			station.Fault = fault
			return hosts.Set(context.Background(), station.Begin("Settle.", false), station, registry,
				"/usr/bin/unicrux", "far.example",
				[]string{"port=7", "proxy=http://127.0.0.1:3128", "author-name=Ines", "by=ssh"})
		}
		err = set(func(string) {
			if points++; points == at {
				panic(cut)
			}
		})
		if err != nil && !errors.Is(err, cut) {
			t.Fatalf("cut at %d: %v", at, err)
		}
		if r := p.run("", "ssh", "-G", "-F", p.path(".ssh", "config"), "mine"); r.exit != 0 ||
			!strings.Contains(r.out, "\nport 1\n") {
			t.Fatalf("cut at %d, ssh does not read its settings: %s", at, r)
		}
		if got := strings.TrimSpace(p.mustGit("config", "user.name").out); got != "Ines Marlow" {
			t.Fatalf("cut at %d, git reads %q", at, got)
		}
		if again := set(nil); again != nil {
			t.Fatalf("cut at %d, the next run: %v", at, again)
		}
		if r := p.run("", "ssh", "-G", "-F", p.path(".ssh", "config"), "far.example"); !strings.Contains(r.out,
			"\nport 7\n") || !strings.Contains(r.out, "127.0.0.1:3128") {
			t.Fatalf("cut at %d, at the end: %s", at, r)
		}
		if got := p.mustGit("config", "--get-urlmatch", "http.proxy",
			"https://far.example/x").out; !strings.Contains(got, "3128") {
			t.Fatalf("cut at %d, git's proxy is %q", at, got)
		}
		if err == nil {
			if at < 8 {
				t.Errorf("only %d points", at)
			}
			return
		}
	}
}

// TestDeletedFolder: that the current folder was deleted stops nothing that does not need it.
func TestDeletedFolder(t *testing.T) {
	t.Parallel()
	p := settled(t)
	in := func(line string) result {
		return p.run("protocol=https\nhost=nobody.example\n\n", "sh", "-c",
			"mkdir gone && cd gone && rmdir ../gone && "+program+" "+line)
	}
	for line, want := range map[string]int{"look": 0, "key list": 0, "changes": 0, "check " + drift: 0,
		"host set forge keep-alive=30": 0, "chest show": 0, "for-git credential get": 0} {
		if r := in(line); r.exit != want {
			t.Errorf("%s: %s", line, r)
		}
	}
	for _, line := range []string{"ready " + drift,
		"key save forge_ed25519 --format pkcs8 --out copy --no-passphrase"} {
		if r := in(line); r.exit != 3 || !strings.Contains(r.err, "the current folder was deleted") {
			t.Errorf("%s: %s", line, r)
		}
	}
	if r := in("check"); r.exit != 1 || p.exists("gone") {
		t.Errorf("check: %s", r)
	}
	if r := in("remote list"); r.exit == 0 || p.exists("gone") {
		t.Errorf("remote list: %s", r)
	}
	if r := in("ready " + drift + " --into " + p.path("elsewhere")); r.exit != 0 ||
		!p.exists("elsewhere", "drift.csv") {
		t.Errorf("with a folder: %s", r)
	}
}
