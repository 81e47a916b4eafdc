package acceptance

import (
	"fmt"
	"net"
	"os/user"
	"strings"
	"testing"
)

// TestSSHPrograms compares whether git gets in with whether check says so, where settings name another
// program than ssh, or bind what ssh does.
func TestSSHPrograms(t *testing.T) {
	t.Parallel()
	who, err := user.Current()
	if err != nil {
		t.Fatal(err)
	}
	script := func(p *person, text string) string {
		p.write("#!/bin/sh\n"+text, "bin", "program")
		p.chmod(0o700, "bin", "program")
		return p.path("bin", "program")
	}
	settings := func(lines string) func(p *person) { return func(p *person) { p.write(lines+p.read(".ssh", "config"), ".ssh", "config") } }
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
	const around = "exec ssh -F \"$HOME/.ssh/config\" -o BatchMode=yes -i \"$HOME/.ssh/other\" \"$@\"\n"
	for _, row := range []struct {
		name, code string
		arrange    func(p *person)
		gitOpens   bool // where check cannot tell
	}{
		{"a program around ssh, in GIT_SSH", "", func(p *person) { p.extra = append(p.extra, "GIT_SSH="+script(p, around)) }, false},
		{"a program around ssh, in git's settings", "", func(p *person) { p.mustGit("config", "--global", "core.sshCommand", script(p, around)) }, false},
		{"a line for the shell", "", func(p *person) { p.extra = append(p.extra, "GIT_SSH_COMMAND=f() { "+strings.TrimSpace(around)+"; }; f") }, false},
		{"a program around ssh with a key that the host does not know", "key-not-offered", func(p *person) {
			p.write("UserKnownHostsFile "+p.path(".ssh", "known_hosts")+"\n", ".ssh", "config")
			p.mustGit("config", "--global", "core.sshCommand", script(p, strings.Replace(around, "other", "strange", 1)))
		}, false},
		{"a program around ssh with another port", "port-refused", func(p *person) {
			p.mustGit("config", "--global", "core.sshCommand", script(p, strings.Replace(around, "-i ", "-o Port=9 -i ", 1)))
		}, false},
		{"another program, which opens", "ssh-program-unknown", func(p *person) {
			p.extra = append(p.extra, "GIT_SSH="+script(p, "case $1 in -G) exit 1;; esac\nfor last; do :; done\neval \"$last\"\n"), "GIT_SSH_VARIANT=ssh")
		}, true},
		{"another program, which does not", "ssh-program-unknown", func(p *person) { p.extra = append(p.extra, "GIT_SSH="+script(p, "echo usage: none >&2\nexit 2\n")) }, false},
		{"a terminal by force", "ssh-setting-hinders", settings("RequestTTY force\n"), false},
		{"a terminal where there is one", "", settings("RequestTTY yes\n"), false},
		{"an interface that is not there", "ssh-setting-hinders", settings("BindInterface nowhere0\n"), false},
		{"an interface that is there", "", settings("BindInterface lo\n"), false},
		{"RSA keys that are long enough", "", settings("RequiredRSASize 2048\n"), false},
		{"RSA keys that are too short", "key-not-offered", settings("RequiredRSASize 8192\n"), false},
		{"a forwarding, one of whose addresses is taken", "", func(p *person) {
			settings("ExitOnForwardFailure yes\nLocalForward " + listen(p.t, "127.0.0.1") + " 127.0.0.1:9\n")(p)
		}, false},
		{"a forwarding, both of whose addresses are taken", "ssh-setting-hinders", func(p *person) {
			settings("ExitOnForwardFailure yes\nLocalForward " + listen(p.t, "127.0.0.1", "::1") + " 127.0.0.1:9\n")(p)
		}, false},
		{"a proxy whose address is taken", "ssh-setting-hinders", func(p *person) {
			settings("ExitOnForwardFailure yes\nDynamicForward 127.0.0.1:" + listen(p.t, "127.0.0.1") + "\n")(p)
		}, false},
	} {
		t.Run(row.name, func(t *testing.T) {
			t.Parallel()
			p := newPerson(t)
			for _, name := range []string{"other", "strange"} {
				p.must("key", "new", name, "--kind", "rsa", "--no-passphrase")
			}
			port, line := p.sshd(p.must("key", "show", "other", "--line").out)
			p.write(fmt.Sprintf("[127.0.0.1]:%d %s", port, line), ".ssh", "known_hosts")
			p.write("IdentityFile "+p.path(".ssh", "other")+"\nIdentitiesOnly yes\nUserKnownHostsFile "+p.path(".ssh", "known_hosts")+"\n", ".ssh", "config")
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
			if (real.exit == 0) != (row.code == "" || row.gitOpens) || c.Open != (row.code == "") || row.code != "" && c.Crux.Code != row.code {
				t.Errorf("git ends with %s, and check finds %+v, want %s", real, c.Crux, row.code)
			}
		})
	}
}
