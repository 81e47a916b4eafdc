package acceptance

import (
	"strings"
	"testing"
)

// TestFoldersAreNoHosts: what git reads from this computer has no crux.
func TestFoldersAreNoHosts(t *testing.T) {
	t.Parallel()
	p := newPerson(t)
	p.mustGit("init", "--quiet", "--bare", p.path("repo.git"))
	p.mustGit("init", "--quiet", p.path("work"))
	p.folder = p.path("work")
	p.mustGit("remote", "add", "origin", p.path("repo.git"))
	for _, url := range []string{p.path("repo.git"), "../repo.git", "file://" + p.path("repo.git"),
		"file://localhost" + p.path("repo.git"), ".", "origin", ""} {
		args := []string{"check"}
		if url != "" {
			args = append(args, url)
		}
		if r := p.unicrux(args...); r.exit != 0 || !strings.Contains(strings.Join(strings.Fields(r.out), " "),
			"is a folder on this computer, and git can read it") {
			t.Errorf("%q: %s", url, r)
		}
	}
	if r := p.unicrux("check", "../nothing.git"); r.exit != 1 || !strings.Contains(r.out, "a path on this computer") {
		t.Errorf("one that is not there: %s", r)
	}
}

// TestEmptySSHCommand: git takes an empty GIT_SSH_COMMAND for a command, and fails.
func TestEmptySSHCommand(t *testing.T) {
	t.Parallel()
	p := newPerson(t)
	p.extra = []string{"GIT_SSH_COMMAND="}
	if r := p.git("ls-remote", "git@127.0.0.1:x"); r.exit == 0 || !strings.Contains(r.err, "cannot run") {
		t.Errorf("git: %s", r)
	}
	if c := p.check("git@127.0.0.1:x"); c.Open || c.Crux.Code != "ssh-command-broken" {
		t.Errorf("%+v", c.Crux)
	}
	if r := p.unicrux("check", "git@127.0.0.1:x"); !strings.Contains(r.out,
		"nothing: the setting is there, and empty") {
		t.Errorf("%s", r)
	}
}
