package acceptance

import (
	"fmt"
	"io"
	"net"
	"strconv"
	"strings"
	"testing"

	"anchorage.example/unicrux/core/causes"
	"anchorage.example/unicrux/demo"
	"anchorage.example/unicrux/fixture/damage"
	"anchorage.example/unicrux/standin"
)

// A scene is a crux that really happens: the real client fails, check names the code, what
// the mend says is done, the real client succeeds.
type scene struct {
	code    string
	arrange func(p *person)
	url     string // what git and check are given; DRIFT and the like are replaced
	push    bool
	clone   bool     // a clone of the repository is there, and the current folder
	then    string   // the URL that the mend says, for which it works then
	check   []string // further options of check
	// mend does what the mend says where that is not a command of ours.
	mend func(p *person)
}

const (
	drift    = "git@forge.tidewater.example:buoys/drift-model.git"
	driftURL = "ssh://git@forge.tidewater.example/buoys/drift-model.git"
	tables   = "git@forge.tidewater.example:buoys/tide-tables.git"
	lamp     = "git@forge.tidewater.example:harbour/lamp-firmware.git"
	minutes  = "git@forge.tidewater.example:council/minutes.git"
	oldLog   = "git@forge.tidewater.example:archive/log-1998.git"
)

var scenes = []scene{
	{code: "url-malformed", url: "git@forge.tidewater.example/buoys/drift-model.git"},
	{code: "remote-missing", clone: true, push: true, url: "upstream",
		mend: func(p *person) { p.mustGit("remote", "add", "upstream", drift) }},
	{code: "key-none", arrange: func(p *person) {
		p.remove(".ssh", "forge_ed25519")
		p.edit("    IdentityFile "+p.path(".ssh", "forge_ed25519")+"\n", "", ".ssh", "unicrux.conf")
	}, mend: func(p *person) {
		p.remove(".ssh", "forge_ed25519.pub")
		p.must("key", "new", "--host", "forge", "--no-passphrase")
		p.must("key", "register", "forge_ed25519", "forge", "--token-from", p.host.TokenFile())
	}},
	{code: "key-locked", arrange: func(p *person) {
		p.agent()
		p.write("seven tides\n", "passphrase")
		p.must("key", "new", "locked", "--passphrase-from", p.path("passphrase"))
		p.must("key", "register", "locked", "forge", "--token-from", p.host.TokenFile())
	}, mend: func(p *person) {
		p.must("key", "load", "locked", "--for", "8h", "--passphrase-from", p.path("passphrase"))
	}},
	{code: "port-refused", arrange: func(p *person) { p.usePort(freePort(p.t)) },
		mend: func(p *person) { p.usePort(p.host.SSHPort()) }},
	{code: "ssh-port-blocked", arrange: func(p *person) { // as if a network let the first port's packets fall
		was, closed := strconv.Itoa(p.host.SSHPort()), strconv.Itoa(freePort(p.t))
		p.edit("\nport = "+was, "\nport = "+closed, ".config", "unicrux", "hosts", "forge.toml")
		p.edit("Port "+was, "Port "+closed, ".ssh", "unicrux.conf")
	}, mend: func(p *person) {
		p.must("host", "set", "forge", "port=alternative")
		p.must("host", "trust", "forge")
	}},
	{code: "host-key-unknown", arrange: func(p *person) { p.write("", ".ssh", "known_hosts") }},
	{code: "host-key-wrong", arrange: func(p *person) {
		other, err := demo.Serve("forge", standin.Options{})
		if err != nil {
			p.t.Fatal(err)
		}
		p.t.Cleanup(func() { _ = other.Close() })
		stored := p.read(".ssh", "known_hosts")
		was, is := strconv.Itoa(p.host.SSHPort()), strconv.Itoa(other.SSHPort())
		// as if it had been this host for long
		p.write(stored+strings.Replace(stored, was, is, 1), ".ssh", "known_hosts")
		p.usePort(other.SSHPort())
	}, mend: func(p *person) { p.usePort(p.host.SSHPort()) }},
	{code: "host-key-changed", arrange: (*person).staleHostKey},
	{code: "key-not-registered", arrange: func(p *person) {
		p.must("key", "new", "other", "--no-passphrase")
		p.edit(p.path(".ssh", "forge_ed25519"), p.path(".ssh", "other"), ".ssh", "unicrux.conf")
		p.remove(".ssh", "forge_ed25519")
	}, mend: func(p *person) { p.must("key", "register", "other", "forge", "--token-from", p.host.TokenFile()) }},
	{code: "repository-missing", url: minutes,
		mend: func(p *person) { p.host.Allow("ines.marlow", "council/minutes", true, false) }},
	{code: "read-only-key", push: true, arrange: func(p *person) {
		p.must("key", "withdraw", "forge_ed25519", "forge", "--token-from", p.host.TokenFile())
		p.must("key", "register", "forge_ed25519", "forge", "--access", "read", "--token-from", p.host.TokenFile())
		p.wants(drift, "")
	}, mend: func(p *person) {
		p.must("key", "withdraw", "forge_ed25519", "forge", "--token-from", p.host.TokenFile())
		p.must("key", "register", "forge_ed25519", "forge", "--access", "write", "--token-from", p.host.TokenFile())
	}},
	{code: "read-only-account", url: lamp, push: true,
		mend: func(p *person) { p.host.Allow("ines.marlow", "harbour/lamp-firmware", true, true) }},
	{code: "repository-frozen", url: oldLog, push: true},
	{code: "key-file-exposed", arrange: func(p *person) { p.chmod(0o644, ".ssh", "forge_ed25519") },
		mend: func(p *person) { p.chmod(0o600, ".ssh", "forge_ed25519") }},
	{code: "key-file-missing", arrange: func(p *person) { p.rename("forge_ed25519", "moved") },
		mend: func(p *person) { p.rename("moved", "forge_ed25519") }},
	{code: "ssh-config-broken",
		arrange: func(p *person) { p.write("Prot 22\n"+p.read(".ssh", "config"), ".ssh", "config") },
		mend:    func(p *person) { p.edit("Prot", "# Prot", ".ssh", "config") }},
	{code: "ssh-setting-hinders",
		arrange: func(p *person) { p.write("PubkeyAuthentication no\n"+p.read(".ssh", "config"), ".ssh", "config") },
		mend:    func(p *person) { p.edit("PubkeyAuthentication no", "PubkeyAuthentication yes", ".ssh", "config") }},
	{code: "url-is-a-page", url: "https://forge.tidewater.example/buoys/drift-model/files/main/drift.csv",
		then: driftURL},
	{code: "url-transport-refused", url: "git://forge.tidewater.example/buoys/drift-model.git", then: driftURL},
	{code: "url-user-missing", url: "forge.tidewater.example:buoys/drift-model.git", then: driftURL,
		arrange: func(p *person) { p.edit("    User git\n", "", ".ssh", "unicrux.conf") }},
	{code: "url-port-in-short-form", url: "git@forge.tidewater.example:PORT/buoys/drift-model.git",
		then: "ssh://git@forge.tidewater.example:PORT/buoys/drift-model.git",
		arrange: func(p *person) {
			p.edit(fmt.Sprintf("    Port %d\n", p.host.SSHPort()), "", ".ssh",
				"unicrux.conf")
		}},
	{code: "name-unknown", url: "git@forge.tidewatr.example:buoys/drift-model.git", then: driftURL},
	{code: "key-file-public", arrange: func(p *person) { p.useKey("forge_ed25519", "forge_ed25519.pub") }},
	{code: "key-file-unreadable", arrange: func(p *person) {
		text := p.read(".ssh", "forge_ed25519")
		p.write(text, "whole")
		p.write(text[:len(text)/2], ".ssh", "forge_ed25519")
	}, mend: func(p *person) { p.write(p.read("whole"), ".ssh", "forge_ed25519") }},
	{code: "key-pair-mismatch", arrange: func(p *person) {
		p.must("key", "new", "other", "--no-passphrase")
		p.write(p.read(".ssh", "other.pub"), ".ssh", "forge_ed25519.pub")
	}},
	{code: "key-elsewhere", arrange: func(p *person) {
		p.write(p.read(".ssh", "forge_ed25519"), "Downloads", "temp", "left_ed25519")
		p.remove(".ssh", "forge_ed25519")
		p.remove(".ssh", "forge_ed25519.pub")
		p.edit("    IdentityFile "+p.path(".ssh", "forge_ed25519")+"\n", "", ".ssh", "unicrux.conf")
	}},
	{code: "agent-unreachable", arrange: func(p *person) {
		p.write(p.read(".ssh", "forge_ed25519"), "vault", "deep", "forge_ed25519")
		p.remove(".ssh", "forge_ed25519")
		p.remove(".ssh", "forge_ed25519.pub")
		p.edit("    IdentityFile "+p.path(".ssh", "forge_ed25519")+"\n    IdentitiesOnly yes\n", "", ".ssh",
			"unicrux.conf")
		p.extra = append(p.extra, "SSH_AUTH_SOCK="+p.path("agent.sock"))
	}, mend: func(p *person) {
		p.agent()
		p.must("key", "load", p.path("vault", "deep", "forge_ed25519"))
	}},
	{code: "port-silent", arrange: func(p *person) {
		p.write(p.read(".ssh", "config")+"ConnectTimeout 1\n", ".ssh", "config")
		p.usePort(p.listen(func(c net.Conn) { _, _ = io.Copy(io.Discard, c) }))
	}, check: []string{"--timeout", "1s"}},
	{code: "not-ssh", arrange: func(p *person) { p.usePort(p.host.WebPort()) }},
	{code: "connection-closed", arrange: func(p *person) { p.usePort(p.listen(func(net.Conn) {})) }},
	{code: "line-damaged", arrange: func(p *person) {
		port := p.host.SSHPort()
		line := p.listen(func(near net.Conn) { damage.Line(near, port) })
		known := p.read(".ssh", "known_hosts")
		p.write(known+strings.ReplaceAll(known, fmt.Sprint(port), fmt.Sprint(line)), ".ssh", "known_hosts")
		p.usePort(line)
	}},
	{code: "host-key-revoked", arrange: func(p *person) {
		p.write(p.read(".ssh", "known_hosts")+"@revoked * "+strings.SplitN(p.read(".ssh", "known_hosts"), " ", 2)[1],
			".ssh", "known_hosts")
	}, mend: func(p *person) { p.edit("@revoked", "# ", ".ssh", "known_hosts") }},
	{code: "key-not-offered", arrange: func(p *person) {
		p.must("key", "new", "other", "--no-passphrase")
		p.useKey("forge_ed25519", "other")
	}},
	{code: "key-other-account", url: tables, push: true, arrange: func(p *person) {
		p.labKey()
		p.useKey("forge_ed25519", "lab")
	}},
	{code: "ssh-config-exposed", arrange: func(p *person) { p.chmod(0o666, ".ssh", "unicrux.conf") },
		mend: func(p *person) { p.chmod(0o600, ".ssh", "unicrux.conf") }},
	{code: "url-characters", url: "<git@forge.tidewater.example:buoys/drift-model.git>", then: drift},
	{code: "url-alias-unknown", url: "git@forge-lab:buoys/drift-model.git",
		mend: func(p *person) {
			p.edit("Host forge.tidewater.example", "Host forge.tidewater.example forge-lab", ".ssh", "unicrux.conf")
		}},
	{code: "url-rewritten", arrange: func(p *person) {
		p.mustGit("config", "--global", "url.git@elsewhere.example:.insteadOf", "git@forge.tidewater.example:")
	}, mend: func(p *person) {
		p.mustGit("config", "--global", "--unset-all", "url.git@elsewhere.example:.insteadOf")
	}},
	{code: "ssh-command-broken",
		arrange: func(p *person) { p.extra = append(p.extra, "GIT_SSH_COMMAND="+p.path("tools", "ssh-by-hand")) },
		mend:    func(p *person) { p.extra = nil }},
	{code: "ssh-config-shadowed",
		arrange: func(p *person) { p.write("Host *\n    Port 1\n"+p.read(".ssh", "config"), ".ssh", "config") },
		mend:    func(p *person) { p.edit("Host *\n    Port 1\n", "", ".ssh", "config") }},
	{code: "ssh-config-unmatched", arrange: func(p *person) {
		p.edit("Host forge.tidewater.example", "Host forge.tidewater.exampel", ".ssh", "unicrux.conf")
	}, mend: func(p *person) {
		p.edit("Host forge.tidewater.exampel", "Host forge.tidewater.example", ".ssh", "unicrux.conf")
	}},
	{code: "asking-failed", arrange: func(p *person) {
		p.write("seven tides\n", "passphrase")
		p.must("key", "passphrase", "forge_ed25519", "--new-passphrase-from", p.path("passphrase"))
		p.extra = append(p.extra, "SSH_ASKPASS="+p.path("asker"), "SSH_ASKPASS_REQUIRE=force")
	}, mend: func(p *person) {
		p.write("#!/bin/sh\necho seven tides\n", "asker")
		p.chmod(0o700, "asker")
		p.must("key", "passphrase", "forge_ed25519", "--passphrase-from", p.path("passphrase"), "--no-passphrase")
	}},
	{code: "repository-owner", clone: true, push: true, url: "origin",
		arrange: func(p *person) { p.extra = append(p.extra, "GIT_TEST_ASSUME_DIFFERENT_OWNER=1") },
		mend:    func(p *person) { p.mustGit("config", "--global", "--add", "safe.directory", p.folder) }},
	{code: "transport-forbidden",
		arrange: func(p *person) { p.mustGit("config", "--global", "protocol.allow", "never") },
		mend:    func(p *person) { p.mustGit("config", "--global", "--unset", "protocol.allow") }},
	{code: "git-config-broken", arrange: func(p *person) { p.write("[remote\n", ".gitconfig") },
		mend: func(p *person) { p.write("", ".gitconfig") }},
}

func TestScenes(t *testing.T) {
	for _, s := range scenes {
		t.Run(s.code, func(t *testing.T) {
			t.Parallel()
			s.play(settled(t))
		})
	}
}

func (s scene) play(p *person) {
	t := p.t
	if s.url == "" {
		s.url = drift
	}
	s.url = strings.Replace(s.url, "PORT", strconv.Itoa(p.host.SSHPort()), 1)
	s.then = strings.Replace(s.then, "PORT", strconv.Itoa(p.host.SSHPort()), 1)
	if s.clone {
		p.mustGit("clone", "--quiet", drift)
		p.folder = p.path("drift-model")
	}
	if s.arrange != nil {
		s.arrange(p)
	}
	failed := s.try(p)
	if failed.exit == 0 {
		t.Fatalf("the real client does not fail: %s", failed)
	}
	p.explains(failed, s.code)
	c := p.check(s.arguments()...)
	done := p.performed(s.code, c)
	if c.Open || c.Crux.Code != s.code {
		t.Fatalf("the crux is %+v, want %s", c.Crux, s.code)
	}
	s.examine(t, c)
	if done.mended = others; !s.repair(p, c) { // nobody in the scene can mend it; that it is told is all
		return
	}
	done.mended = noSceneYet
	if r := s.try(p); r.exit != 0 {
		t.Fatalf("after the mend the real client still fails: %s", r)
	}
	if c := p.check(s.arguments()...); !c.Open {
		t.Fatalf("after the mend the crux is %+v", c.Crux)
	}
	done.mended = mended
}

// repair does what the mend says, and tells whether it could.
func (s *scene) repair(p *person, c checked) bool {
	p.t.Helper()
	switch {
	case s.mend != nil:
		s.mend(p)
		return true
	case s.then != "":
		if !strings.Contains(c.Mends[0].Summary+" ", s.then) &&
			!strings.Contains(c.Mends[0].Summary, "forge.tidewater.example") {
			p.t.Fatalf("the mend does not say %s: %+v", s.then, c.Mends)
		}
		s.url = s.then
		return true
	}
	for _, mend := range c.Mends {
		if len(mend.Command) == 0 || !*mend.Automatic {
			continue
		}
		if mend.Command[0] == "unicrux" {
			p.must(mend.Command[1:]...)
		} else if r := p.run("", mend.Command[0], mend.Command[1:]...); r.exit != 0 {
			p.t.Fatalf("%q: %s", mend.Command, r)
		}
		return true
	}
	return false
}

func (s scene) arguments() []string {
	if s.push {
		return append(s.check, "--for", "push", s.url)
	}
	return append(s.check, s.url)
}

// try is what the real client does. A push that sends nothing asks for the right to write
// all the same.
func (s scene) try(p *person) result {
	if !s.push {
		return p.git("ls-remote", s.url)
	}
	if !s.clone {
		p.git("init", "--quiet", p.path("push-from"))
		return p.git("-C", p.path("push-from"), "push", "--dry-run", s.url, ":refs/heads/none", "--porcelain")
	}
	return p.git("push", "--dry-run", s.url, "HEAD:refs/heads/main")
}

// examine holds the document against what every broken way must look like.
func (s scene) examine(t testing.TB, c checked) {
	t.Helper()
	code, _ := causes.Find(s.code)
	if c.Crux.Stage != string(causes.StageOf(code)) || c.Crux.Summary != causes.Summary(code) ||
		len(c.Crux.Evidence) == 0 {
		t.Errorf("crux %+v", c.Crux)
	}
	if len(c.Mends) == 0 {
		t.Error("no mend is told")
	}
	state := "open"
	for i, stage := range c.Stages {
		if stage.Name != string(causes.Stages[i]) {
			t.Errorf("stage %d is %s", i, stage.Name)
		}
		want := state
		if stage.Name == c.Crux.Stage {
			want, state = "broken", "not-reached"
		}
		if stage.State != want {
			t.Errorf("stage %s is %s, want %s", stage.Name, stage.State, want)
		}
	}
}
