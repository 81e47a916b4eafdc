package acceptance

import (
	"strings"
	"testing"

	"anchorage.example/unicrux/agreement"
)

// TestSigningAgrees lets git sign a commit, or refuse to, and check say which of the two it will be.
func TestSigningAgrees(t *testing.T) {
	t.Parallel()
	tally := agreement.Of(t, "git: whether it signs")
	for _, row := range []struct {
		name    string
		arrange func(p *person)
		said    string // why it refuses; empty where it signs
	}{
		{"by a private file", func(p *person) {
			p.mustGit("config", "--global", "user.signingKey",
				p.path(".ssh", "mine"))
		}, ""},
		{"by a public file beside the private one",
			func(p *person) { p.mustGit("config", "--global", "user.signingKey", "~/.ssh/mine.pub") }, ""},
		{"by a key in the settings, which an agent holds", func(p *person) {
			p.holds(map[string]string{"mine": ""})
			p.mustGit("config", "--global", "user.signingKey",
				"key::"+strings.TrimSpace(p.must("key", "show", "mine", "--line").out))
		}, ""},
		{"by a key in the settings, which no agent holds", func(p *person) {
			p.mustGit("config", "--global", "user.signingKey",
				strings.TrimSpace(p.must("key", "show", "mine", "--line").out))
		}, "no agent holds the key"},
		{"by a public file alone", func(p *person) {
			p.write(p.must("key", "show", "mine", "--line").out, "alone.pub")
			p.mustGit("config", "--global", "user.signingKey", p.path("alone.pub"))
		}, "no agent holds the key"},
		{"by a public file alone, whose key an agent holds", func(p *person) {
			p.holds(map[string]string{"mine": ""})
			p.write(p.must("key", "show", "mine", "--line").out, "alone.pub")
			p.mustGit("config", "--global", "user.signingKey", p.path("alone.pub"))
		}, ""},
		{"by a file that is not there",
			func(p *person) { p.mustGit("config", "--global", "user.signingKey", "~/.ssh/nowhere") }, "is not there"},
		{"by a file that is no key", func(p *person) {
			p.write("tide\n", "words")
			p.mustGit("config", "--global", "user.signingKey", p.path("words"))
		}, "cannot be read"},
		{"by no key", func(*person) {}, "no key is named"},
		{"by a program that is not there", func(p *person) {
			p.mustGit("config", "--global", "user.signingKey", "~/.ssh/mine")
			p.mustGit("config", "--global", "gpg.ssh.program", "/nowhere/signs")
		}, "the program that signs"},
	} {
		t.Run(row.name, func(t *testing.T) {
			t.Parallel()
			p := settled(t)
			p.must("key", "new", "mine", "--no-passphrase")
			p.mustGit("clone", "--quiet", drift, "work")
			p.mustGit("config", "--global", "gpg.format", "ssh")
			p.mustGit("config", "--global", "commit.gpgSign", "true")
			row.arrange(p)
			p.folder = p.path("work")
			real, c := p.git("commit", "--quiet", "--allow-empty", "--message", "signed"), p.check()
			said := ""
			for _, note := range c.Notes {
				if note.Code == "signing-failed" {
					said = note.Summary
				}
			}
			tally.Case((real.exit == 0) == (row.said == "") && (said == "") == (row.said == "") &&
				strings.Contains(said, row.said),
				"%s: git ends with %s, and check says %q", row.name, real, said)
		})
	}
}

// TestKeysThatSign are known as such, and neither retired nor renewed while git signs with them.
func TestKeysThatSign(t *testing.T) {
	t.Parallel()
	p := newPerson(t)
	p.must("key", "new", "mine", "--no-passphrase")
	p.mustGit("config", "--global", "gpg.format", "ssh")
	p.mustGit("config", "--global", "user.signingKey", "~/.ssh/mine.pub")
	if r := p.must("key", "list"); !strings.Contains(strings.Join(strings.Fields(r.out), " "),
		"git, which signs with it (~/.gitconfig:") {
		t.Error(r)
	}
	before := p.everything()
	for _, args := range [][]string{{"key", "retire", "mine"}, {"key", "renew", "mine", "--no-passphrase"}} {
		if r := p.unicrux(args...); r.exit != 1 || !strings.Contains(strings.Join(strings.Fields(r.err), " "),
			"mine: git signs with this key (~/.gitconfig)") {
			t.Errorf("%v: %s", args, r)
		}
	}
	if p.everything() != before {
		t.Error("something was changed")
	}
	p.mustGit("config", "--global", "--unset", "user.signingKey")
	p.must("key", "retire", "mine")
}

// TestSigningKeysAtAHost registers a key as one that signs: it is listed there, opens nothing, and is taken back.
func TestSigningKeysAtAHost(t *testing.T) {
	t.Parallel()
	p := settled(t)
	p.must("key", "new", "signer", "--no-passphrase")
	token := p.host.TokenFile()
	before := p.everything()
	r := p.must("key", "register", "signer", "forge", "--signing", "--token-from", token)
	if !strings.Contains(strings.Join(strings.Fields(r.out), " "),
		"lists it as a key that signs commits: it opens nothing") {
		t.Error(r)
	}
	if r := p.must("key", "register", "signer", "forge", "--signing", "--token-from",
		token); !strings.Contains(r.out, "already") {
		t.Errorf("again: %s", r)
	}
	if r := p.must("key", "compare", "forge", "--signing", "--token-from", token); !strings.Contains(r.out, "signer") {
		t.Errorf("compared: %s", r)
	}
	if c := p.check(drift); !c.Open || c.Account == nil {
		t.Errorf("signing in: %+v", c.Crux)
	}
	p.must("undo", "--token-from", token)
	if r := p.unicrux("key", "withdraw", "signer", "forge", "--signing", "--token-from", token); r.exit != 1 {
		t.Errorf("taken back: %s", r)
	}
	if p.everything() != before {
		t.Error("undo does not bring everything back")
	}
	p.must("key", "register", "signer", "forge", "--signing", "--token-from", token)
	p.must("key", "withdraw", "signer", "forge", "--signing", "--token-from", token)
	if r := p.unicrux("key", "register", "signer", "forge", "--signing", "--repo", "buoys/drift-model", "--token-from",
		token); r.exit != 2 {
		t.Errorf("two lists: %s", r)
	}
	q := at(t, "saltmarsh")
	q.must("key", "new", "signer", "--no-passphrase")
	if r := q.unicrux("key", "register", "signer", "saltmarsh", "--signing", "--token-from",
		q.host.TokenFile()); r.exit != 1 || !strings.Contains(strings.Join(strings.Fields(r.err), " "),
		"accepts no signing keys") {
		t.Errorf("a host without: %s", r)
	}
}
