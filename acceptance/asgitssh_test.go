package acceptance

import (
	"fmt"
	"net"
	"strings"
	"testing"

	"anchorage.example/unicrux/agreement"
)

// TestSSHPrograms compares whether git gets in with whether check says so, where settings name another
// program than ssh, or bind what ssh does.
func TestSSHPrograms(t *testing.T) {
	t.Parallel()
	who := loginUser(t)
	script := func(p *person, text string) string {
		p.write("#!/bin/sh\n"+text, "bin", "program")
		p.chmod(0o700, "bin", "program")
		return p.path("bin", "program")
	}
	settings := func(lines string) func(p *person) {
		return func(p *person) { p.write(lines+p.read(".ssh", "config"), ".ssh", "config") }
	}
	listen := func(t testing.TB, addresses ...string) string {
		t.Helper()
		port := "0"
		for _, at := range addresses {
			l, err := net.Listen("tcp", net.JoinHostPort(at, port))
			if err != nil {
				t.Fatal(err)
			}
			t.Cleanup(func() { _ = l.Close() })
			_, port, _ = net.SplitHostPort(l.Addr().String())
		}
		return port
	}
	tally := agreement.Of(t, "git over SSH: whether it gets in")
	const around = "exec ssh -F \"$HOME/.ssh/config\" -o BatchMode=yes -i \"$HOME/.ssh/other\" \"$@\"\n"
	for _, row := range []struct {
		name, code string
		arrange    func(p *person)
	}{
		{"a program around ssh, in GIT_SSH", "",
			func(p *person) { p.extra = append(p.extra, "GIT_SSH="+script(p, around)) }},
		{"a program around ssh, in git's settings", "",
			func(p *person) { p.mustGit("config", "--global", "core.sshCommand", script(p, around)) }},
		{"a line for the shell", "", func(p *person) {
			p.extra = append(p.extra, "GIT_SSH_COMMAND=f() { "+strings.TrimSpace(around)+"; }; f")
		}},
		{"a program around ssh with a key that the host does not know", "key-not-offered", func(p *person) {
			p.write("UserKnownHostsFile "+p.path(".ssh", "known_hosts")+"\n", ".ssh", "config")
			p.mustGit("config", "--global", "core.sshCommand",
				script(p, strings.Replace(around, "other", "strange", 1)))
		}},
		{"a program around ssh with another port", "port-refused", func(p *person) {
			p.mustGit("config", "--global", "core.sshCommand",
				script(p, strings.Replace(around, "-i ", "-o Port=9 -i ", 1)))
		}},
		{"another program, which opens", "", func(p *person) {
			p.extra = append(p.extra,
				"GIT_SSH="+script(p, "case $1 in -G) exit 1;; esac\nfor last; do :; done\neval \"$last\"\n"),
				"GIT_SSH_VARIANT=ssh")
		}},
		{"another program, which does not", "ssh-program-unknown",
			func(p *person) {
				p.extra = append(p.extra,
					"GIT_SSH="+script(p, "echo usage: none >&2\nexit 2\n"), "GIT_SSH_VARIANT=ssh")
			}},
		{"another program, which says why", "ssh-command-broken",
			func(p *person) {
				p.extra = append(p.extra,
					"GIT_SSH="+script(p, "echo usage: none >&2\nexit 2\n"))
			}},
		{"a terminal by force", "ssh-setting-hinders", settings("RequestTTY force\n")},
		{"a terminal where there is one", "", settings("RequestTTY yes\n")},
		{"an interface that is not there", "ssh-setting-hinders", settings("BindInterface nowhere0\n")},
		{"an interface that is there", "", settings("BindInterface lo\n")},
		{"RSA keys that are long enough", "", settings("RequiredRSASize 2048\n")},
		{"RSA keys that are too short", "key-not-offered", settings("RequiredRSASize 8192\n")},
		{"a forwarding, one of whose addresses is taken", "", func(p *person) {
			settings("ExitOnForwardFailure yes\nLocalForward " + listen(p.t, "127.0.0.1") + " 127.0.0.1:9\n")(p)
		}},
		{"a forwarding, both of whose addresses are taken", "ssh-setting-hinders", func(p *person) {
			settings("ExitOnForwardFailure yes\nLocalForward " + listen(p.t, "127.0.0.1", "::1") + " 127.0.0.1:9\n")(p)
		}},
		{"a proxy whose address is taken", "ssh-setting-hinders", func(p *person) {
			settings("ExitOnForwardFailure yes\nDynamicForward 127.0.0.1:" + listen(p.t, "127.0.0.1") + "\n")(p)
		}},
	} {
		t.Run(row.name, func(t *testing.T) {
			t.Parallel()
			p := newPerson(t)
			for _, name := range []string{"other", "strange"} {
				p.must("key", "new", name, "--type", "rsa", "--no-passphrase")
			}
			port, line := p.sshd(p.must("key", "show", "other", "--line").out)
			p.write(fmt.Sprintf("[127.0.0.1]:%d %s", port, line), ".ssh", "known_hosts")
			p.write("IdentityFile "+p.path(".ssh", "other")+"\nIdentitiesOnly yes\nUserKnownHostsFile "+p.path(".ssh",
				"known_hosts")+"\n", ".ssh", "config")
			p.mustGit("init", "--quiet", "--bare", "there")
			plain := p.extra
			row.arrange(p)
			if len(p.extra) > len(plain) || p.exists("bin", "program") { // in place of the one that tests use
				p.without = append(p.without, "GIT_SSH_COMMAND")
				for _, set := range p.extra {
					if strings.HasPrefix(set, "GIT_SSH_COMMAND=") {
						p.without = nil // it wins over the earlier one
					}
				}
			}
			url := fmt.Sprintf("ssh://%s@127.0.0.1:%d%s", who.Username, port, p.path("there"))
			patience := "60"
			if strings.Contains(row.name, "by force") { // git waits for ever
				patience = "3"
			}
			real, c := p.run("", "timeout", patience, "git", "ls-remote", url), p.check(url)
			opens := row.code == ""
			if row.code != "" {
				p.performed(row.code, c)
			}
			agree := (real.exit == 0) == opens && c.Open == (row.code == "") &&
				(row.code == "" || c.Crux.Code == row.code)
			tally.Case(agree, "%s: git ends with %s, and check finds %+v, want %s", row.name, real, c.Crux, row.code)
		})
	}
}

// TestWritingAtAServer asks a shell at a host that nobody described whether a push could store anything; where
// there is none, it is said that only a push tells.
func TestWritingAtAServer(t *testing.T) {
	t.Parallel()
	who := loginUser(t)
	for _, row := range []struct{ name, forced, code, note string }{
		{"allowed", "", "", ""},
		{"objects closed",
			`ForceCommand case "$SSH_ORIGINAL_COMMAND" in "test -w"*objects*) exit 1;; esac; sh -c "$SSH_ORIGINAL_COMMAND"`, "read-only-account", ""},
		{"refs closed",
			`ForceCommand case "$SSH_ORIGINAL_COMMAND" in "test -w"*refs*) exit 1;; esac; sh -c "$SSH_ORIGINAL_COMMAND"`, "read-only-account", ""},
		{"no shell",
			`ForceCommand case "$SSH_ORIGINAL_COMMAND" in git*) sh -c "$SSH_ORIGINAL_COMMAND";; *) echo refused >&2; exit 255;; esac`, "", "writing-untried"},
	} {
		t.Run(row.name, func(t *testing.T) {
			t.Parallel()
			p := newPerson(t)
			p.must("key", "new", "open", "--no-passphrase")
			port, line := p.sshd(p.must("key", "show", "open", "--line").out, row.forced)
			p.write(fmt.Sprintf("[127.0.0.1]:%d %s", port, line), ".ssh", "known_hosts")
			p.write("IdentityFile "+p.path(".ssh", "open")+"\nUserKnownHostsFile "+p.path(".ssh", "known_hosts")+"\n",
				".ssh", "config")
			p.mustGit("init", "--quiet", "--bare", "there.git")
			c := p.check(fmt.Sprintf("ssh://%s@127.0.0.1:%d%s", who.Username, port, p.path("there.git")),
				"--for", "push")
			code, note := "", ""
			if c.Crux != nil {
				code = c.Crux.Code
			}
			for _, n := range c.Notes {
				if n.Code == "writing-untried" {
					note = n.Code
				}
			}
			if code != row.code || note != row.note {
				t.Errorf("the crux is %q and the note %q: %+v", code, note, c)
			}
		})
	}
}

// TestEveryPushURL looks at each URL to which a push goes.
func TestEveryPushURL(t *testing.T) {
	t.Parallel()
	p := settled(t)
	p.mustGit("clone", "--quiet", drift, "work")
	p.folder = p.path("work")
	p.mustGit("remote", "set-url", "--add", "--push", "origin", drift)
	p.mustGit("remote", "set-url", "--add", "--push", "origin", drift)
	if c := p.check(); !c.Open {
		t.Errorf("twice the same: %+v", c.Crux)
	}
	p.mustGit("remote", "set-url", "--add", "--push", "origin", strings.Replace(drift, "drift-model", "nowhere", 1))
	if c := p.check(); c.Open || c.Crux.Code != "repository-missing" || c.Question.Remote == nil ||
		*c.Question.Remote != "origin" {
		t.Errorf("the third is not there: %+v", c)
	}
	if c := p.check("origin", "--for", "clone"); !c.Open {
		t.Errorf("reading: %+v", c.Crux)
	}
	p.folder = p.home
	p.commit("work", "one.txt")
	p.folder = p.path("work")
	if r := p.git("push", "--quiet"); r.exit == 0 {
		t.Errorf("git pushes to all: %s", r)
	}
}
