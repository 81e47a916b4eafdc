package acceptance

import (
	"os"
	"strings"
	"testing"
)

// TestTwoAccounts has one person with two accounts on a host, each in a folder of its own,
// with real git, clone URLs as they stand on the page, and commits by the right author.
func TestTwoAccounts(t *testing.T) {
	t.Parallel()
	p := settled(t)
	p.without = []string{"GIT_AUTHOR_NAME", "GIT_AUTHOR_EMAIL", "GIT_COMMITTER_NAME", "GIT_COMMITTER_EMAIL"}
	p.mustGit("config", "--global", "user.name", "Ines Marlow")
	p.mustGit("config", "--global", "user.email", "ines.marlow@tidewater.example")
	if err := os.Mkdir(p.path("buoylab"), 0o700); err != nil {
		t.Fatal(err)
	}
	r := p.must("host", "account", "add", "lab@forge", "--folder", "~/buoylab", "--author-name", "Buoy laboratory",
		"--author-email", "lab@tidewater.example")
	if !strings.Contains(r.out, "unicrux ready lab@forge") {
		t.Errorf("%s", r)
	}
	after := p.everything()
	if r := p.must("host", "account", "add", "lab@forge", "--folder", "~/buoylab", "--author-name", "Buoy laboratory",
		"--author-email", "lab@tidewater.example"); !strings.Contains(r.out, "so already") || p.everything() != after {
		t.Errorf("the second time: %s", r)
	}
	if r := p.unicrux("ready", "lab@forge", "--no-passphrase", "--token-from", p.host.TokenFile()); r.exit != 1 ||
		!strings.Contains(r.err, "the token is another account's: it is ines.marlow's") {
		t.Errorf("with the other account's token: %s", r)
	}
	r = p.must("ready", "lab@forge", "--no-passphrase", "--token-from", p.host.TokenFileOf("lab"))
	if !strings.Contains(r.out, "You can sign in at lab@forge as lab.") || !p.exists(".ssh", "lab_forge_ed25519") {
		t.Errorf("%s", r)
	}

	for _, want := range []struct{ folder, account, author string }{
		{".", "ines.marlow", "Ines Marlow <ines.marlow@tidewater.example>"},
		{"buoylab", "lab", "Buoy laboratory <lab@tidewater.example>"},
	} {
		folder := want.folder
		p.folder = p.path(folder)
		if c := p.check(drift); !c.Open || c.Account == nil || *c.Account != want.account {
			t.Errorf("%s: before there is a clone, check says %+v as %v", folder, c.Crux, c.Account)
		}
		if r := p.must("ready", drift, "--into", "by-ready"); !strings.Contains(r.out, "as "+want.account) {
			t.Errorf("%s: %s", folder, r)
		}
		if r := p.mustGit("-C", "by-ready", "ls-remote", "--get-url"); (strings.Contains(r.out,
			"lab")) != (want.account == "lab") {
			t.Errorf("%s: git goes on by %s", folder, r)
		}
		p.mustGit("clone", "--quiet", drift)
		p.folder = p.path(folder, "drift-model")
		if got := strings.TrimSpace(p.mustGit("config", "remote.origin.url").out); got != drift {
			t.Errorf("%s: the URL is %s", folder, got)
		}
		p.mustGit("commit", "--quiet", "--allow-empty", "--message", "by "+want.account)
		if got := strings.TrimSpace(p.mustGit("log", "-1", "--format=%an <%ae>").out); got != want.author {
			t.Errorf("%s: the commit is by %s", folder, got)
		}
		p.mustGit("pull", "--quiet", "--rebase")
		p.mustGit("push", "--quiet")
		c := p.check()
		if !c.Open || c.Account == nil || *c.Account != want.account {
			t.Errorf("%s: check says %+v as %v", folder, c.Crux, c.Account)
		}
	}
	at := strings.TrimSuffix(strings.TrimPrefix(p.cloneHTTPS("x"), "https://"), "/x.git")
	p.write("https://ines.marlow:one@"+at+"\nhttps://lab:two@"+at+"\n", ".git-credentials")
	p.mustGit("config", "--global", "credential.helper", "store")
	for folder, want := range map[string]string{".": "password=one\n", "buoylab": "password=two\n"} {
		p.folder = p.path(folder, "drift-model")
		if r := p.run("url="+p.cloneHTTPS("buoys/drift-model")+"\n\n", "git", "credential",
			"fill"); !strings.Contains(r.out, want) {
			t.Errorf("%s: over HTTPS git signs in with %s", folder, r)
		}
	}
	p.folder = p.path("buoylab", "drift-model")
	why := p.must("check", "--verbose")
	if !strings.Contains(why.out, "lab, because of the folder") {
		t.Errorf("why: %s", why)
	}
	p.folder = p.home
	if r := p.must("host", "account", "list", "forge"); !strings.Contains(r.out, "below ~/buoylab") ||
		!strings.Contains(r.out, "~/.ssh/lab_forge_ed25519") || !strings.Contains(r.out, "everywhere else") {
		t.Errorf("%s", r)
	}
	p.must("key", "renew", "lab_forge_ed25519", "--no-passphrase", "--token-from",
		"lab@forge="+p.host.TokenFileOf("lab"))
	p.folder = p.path("buoylab", "drift-model")
	p.mustGit("fetch", "--quiet")
	p.folder = p.home

	p.must("host", "account", "drop", "lab@forge")
	if r := p.unicrux("host", "account", "drop", "lab@forge"); r.exit != 1 ||
		!strings.Contains(r.err, "no such account") {
		t.Errorf("dropped twice: %s", r)
	}
	text := p.read(".ssh", "unicrux.conf") + p.read(".config", "unicrux", "git.config")
	if strings.Contains(text, "lab") {
		t.Errorf("left behind: %s", text)
	}
	for _, args := range [][]string{{"lab"}, {"l/b@forge", "--folder", "."}, {"lab@nowhere", "--folder", "."},
		{"lab@forge"}, {"lab@forge", "--folder", "/nowhere"}} {
		if r := p.unicrux(append([]string{"host", "account", "add"}, args...)...); r.exit != 2 && r.exit != 1 {
			t.Errorf("%s: %s", args, r)
		}
	}
}
