package acceptance

import (
	"strings"
	"testing"
	"time"
)

// TestHostByHTTPS makes a host ready over HTTPS without any repository, and asks about it in every
// state in which a token can be.
func TestHostByHTTPS(t *testing.T) {
	t.Parallel()
	p := withHost(t).withChest()
	asked := func(name, code string, args ...string) checked {
		t.Helper()
		c := p.check(append([]string{"forge", "--by", "https"}, args...)...)
		if c.Question.Transport != "https" || (code == "") != c.Open || !c.Open && c.Crux.Code != code {
			t.Errorf("%s: %+v, want %q", name, c.Crux, code)
		}
		return c
	}
	if c := asked("nothing settled", "name-unknown"); len(c.Mends) != 1 ||
		strings.Join(c.Mends[0].Command, " ") != "unicrux ready forge --by https" || c.Mends[0].Automatic == nil ||
		!*c.Mends[0].Automatic {
		t.Errorf("nothing settled: %+v", c.Mends)
	}
	words := []string{"--token-from", p.host.TokenFile(), "--chest-passphrase-from", p.path("chest-words")}
	r := p.must(append([]string{"ready", "forge", "--by", "https"}, words...)...)
	if !strings.Contains(r.out, "You can sign in at forge as ines.marlow.") || strings.Contains(r.out, "Clone into") {
		t.Errorf("ready: %s", r)
	}
	if c := asked("ready", ""); c.Account == nil || *c.Account != "ines.marlow" || c.Stages[5].State != "skipped" ||
		c.Stages[6].State != "skipped" {
		t.Errorf("ready: %+v", c)
	}
	p.mustGit("init", "--quiet", "work")
	p.mustGit("-C", "work", "remote", "add", "forge", drift)
	if r := p.run("", "sh", "-c", "cd work && "+program+" check forge --by https"); !strings.Contains(r.out,
		"sign in at forge") || !strings.Contains(r.out, "https") {
		t.Errorf("where a remote has that name: %s", r)
	}
	asked("to push", "token-purpose-missing", "--for", "push")
	asked("another account", "secret-missing", "--as", "lab")

	p.must("chest", "close")
	asked("closed", "chest-closed")
	p.must(append([]string{"ready", "forge", "--by", "https"}, words...)...)
	asked("opened", "")

	p.must("host", "drop", "forge")
	p.must("host", "add", p.host.DescriptionFile())
	before := p.host.Passes("ines.marlow")
	p.must(append([]string{"ready", "forge", "--by", "https"}, words...)...)
	if after := p.host.Passes("ines.marlow"); after != before {
		t.Errorf("the chest has a token, and another was made: %d, there were %d", after, before)
	}

	p.must("token", "revoke", "forge")
	asked("revoked", "secret-missing")
	p.onlyPlainToken("ines.marlow", "tide-"+strings.Repeat("a", 32))
	asked("not known there", "token-unknown")
	p.onlyPlainToken("ines.marlow", p.host.Issue("ines.marlow", "short",
		[]string{"repo:read"}, time.Now().Add(-time.Minute)))
	asked("ended", "token-ended")
}

// TestReadyAtDescribedPort takes a URL from a page, and goes where the description says.
func TestReadyAtDescribedPort(t *testing.T) {
	t.Parallel()
	p := withHost(t).withChest()
	args := []string{"ready", "https://forge.tidewater.example/buoys/drift-model", "--by", "https", "--token-from",
		p.host.TokenFile(), "--chest-passphrase-from", p.path("chest-words")}
	if r := p.must(args...); !strings.Contains(r.err, "Going by HTTPS: "+p.cloneHTTPS("buoys/drift-model")) ||
		!strings.Contains(r.out, "Cloned into") {
		t.Errorf("%s", r)
	}
	if c := p.check("https://forge.tidewater.example/buoys/drift-model.git"); c.Open || len(c.Mends) != 1 ||
		!strings.Contains(c.Mends[0].Summary, p.cloneHTTPS("buoys/drift-model")) {
		t.Errorf("checked as it is typed: %+v", c)
	}
	p.mustGit("-C", "drift-model", "remote", "set-url", "origin", "git@forge.tidewater.example:buoys/drift-model.git")
	if r := p.run("", "sh", "-c", "cd drift-model && "+program+" remote use https"); !strings.Contains(r.out,
		p.cloneHTTPS("buoys/drift-model")) {
		t.Errorf("remote use: %s", r)
	}
	p.mustGit("-C", "drift-model", "fetch", "--quiet")
	if r := p.unicrux("ready", "https://nowhere.tidewater.example/x/y.git", "--by", "https"); r.exit != 1 ||
		strings.Contains(r.out, "Clone into") {
		t.Errorf("what cannot be done is planned: %s", r)
	}
	lantern := at(t, "lantern")
	if r := lantern.unicrux("ready", "lantern", "--by", "https"); r.exit != 1 ||
		!strings.Contains(r.err, "names no address for git over HTTPS") {
		t.Errorf("%s", r)
	}
}

// TestRenewalGoesOn cuts a renewal short before the old token is forgotten: the next run does that,
// and makes no further token.
func TestRenewalGoesOn(t *testing.T) {
	t.Parallel()
	p := withHost(t).withChest()
	if r := p.newToken("--for", "clone"); r.exit != 0 {
		t.Fatal(r)
	}
	before := p.host.Passes("ines.marlow")
	kept := p.path(".config", "unicrux", "hosts", "forge.toml")
	whole := p.read2(kept)
	deaf := strings.Replace(whole,
		"[operations.revoke-token]\nmethod = \"DELETE\"\npath = \"me/tokens/{id}\"\ngone = [404]\n",
		"[operations.revoke-token]\nmethod = \"DELETE\"\npath = \"nowhere/{id}\"\n", 1)
	if deaf == whole {
		t.Fatal("the description has another form")
	}
	p.write(deaf, ".config", "unicrux", "hosts", "forge.toml")
	if r := p.unicrux("token", "renew", "forge"); r.exit != 1 {
		t.Errorf("the old token cannot be revoked: %s", r)
	}
	if there := p.host.Passes("ines.marlow"); there != before+1 {
		t.Errorf("cut short: %d tokens, there were %d", there, before)
	}
	p.write(whole, ".config", "unicrux", "hosts", "forge.toml")
	url := p.cloneHTTPS("buoys/drift-model")
	p.mustGit("ls-remote", url)
	p.must("token", "renew", "forge")
	if there := p.host.Passes("ines.marlow"); there != before {
		t.Errorf("gone on: %d tokens, there were %d", there, before)
	}
	p.mustGit("ls-remote", url)
}

// TestBetterWay goes by HTTPS where the chest has a token and SSH would need a key first, and by SSH
// where a key opens the way.
func TestBetterWay(t *testing.T) {
	t.Parallel()
	p := withHost(t).withChest()
	if r := p.newToken("--for", "clone"); r.exit != 0 {
		t.Fatal(r)
	}
	const page = "git@forge.tidewater.example:buoys/tide-tables"
	p.must("chest", "close")
	words := []string{"--chest-passphrase-from", p.path("chest-words"), "--token-from", p.host.TokenFile(),
		"--no-passphrase"}
	r := p.must(append([]string{"ready", page}, words...)...)
	if !strings.Contains(strings.Join(strings.Fields(r.err), " "),
		"The chest has a token for forge. Going by HTTPS: "+p.cloneHTTPS("buoys/tide-tables")) ||
		strings.Contains(r.err, "by SSH") || p.exists(".ssh", "forge_ed25519") {
		t.Errorf("with a token: %s", r)
	}
	if r := p.must(append([]string{"ready", page, "--for", "push", "--into", "second"},
		words...)...); strings.Contains(r.err, "by HTTPS") || !p.exists(".ssh", "forge_ed25519") {
		t.Errorf("the token is not for pushing: %s", r)
	}
	if r := p.must(append([]string{"ready", page, "--into", "third"}, words...)...); strings.Contains(r.err,
		"by HTTPS") {
		t.Errorf("with a key: %s", r)
	}
	// The transport of a URL is kept, unless the person says otherwise.
	web := p.cloneHTTPS("buoys/tide-tables")
	if r := p.must(append([]string{"ready", web, "--into", "fourth"}, words...)...); strings.Contains(r.err, "by SSH") {
		t.Errorf("an HTTPS URL: %s", r)
	}
	if r := p.must(append([]string{"ready", web, "--by", "ssh", "--into", "fifth"}, words...)...); !strings.
		Contains(r.err, "Going by SSH: ") {
		t.Errorf("an HTTPS URL with --by ssh: %s", r)
	}
	p.commitIn("fourth", "x")
	for folder, transport := range map[string]string{"fourth": "https", "fifth": "ssh"} {
		if got := p.mustGit("-C", folder, "remote", "get-url", "origin").out; !strings.HasPrefix(got, transport) {
			t.Errorf("%s: %s", folder, got)
		}
	}
	if r := p.must("check", "forge", "buoys/tide-tables", "--by", "https"); !strings.Contains(r.out,
		"https") {
		t.Errorf("a host and a repository: %s", r)
	}
}
