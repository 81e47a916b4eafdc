package acceptance

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

const chestWords = "three lamps and a tide"

// withChest gives a person a file with the passphrase of a chest.
func (p *person) withChest() *person {
	p.write(chestWords+"\n", "chest-words")
	return p
}

// openChest opens the chest for a working day.
func (p *person) openChest() {
	p.t.Helper()
	p.must("chest", "open", "--passphrase-from", p.path("chest-words"))
}

// newToken lets the forge issue a token, and keeps it.
func (p *person) newToken(args ...string) result {
	p.t.Helper()
	return p.unicrux(append([]string{"token", "new", "forge", "--token-from", p.host.TokenFile(),
		"--chest-passphrase-from", p.path("chest-words")}, args...)...)
}

// cloneHTTPS is the HTTPS address of a repository of the practice host.
func (p *person) cloneHTTPS(path string) string { return p.host.CloneHTTPS(path) }

// commit makes a commit in a clone.
func (p *person) commit(folder, name string) {
	p.t.Helper()
	p.write(name+"\n", folder, name)
	p.mustGit("-C", folder, "add", name)
	p.mustGit("-C", folder, "commit", "--quiet", "--message", name)
}

// TestTokenJourney goes from no token to a push over HTTPS with the real git, and further: the
// chest closed and opened, the token renewed, and revoked.
func TestTokenJourney(t *testing.T) {
	t.Parallel()
	p := withHost(t).withChest()
	url := p.cloneHTTPS("buoys/drift-model")
	if r := p.git("clone", "--quiet", url, "work"); r.exit == 0 {
		t.Fatalf("without a token: %s", r)
	}
	r := p.newToken("--for", "clone,push", "--until", "30d", "--label", "at sea")
	if r.exit != 0 || !strings.Contains(r.out, "it is ines.marlow's") || !strings.Contains(r.out, "in 30 days") {
		t.Fatalf("token new: %s", r)
	}
	p.must("chest", "close") // a new one is open, since its passphrase has just been given
	if r := p.git("clone", "--quiet", url, "work"); r.exit == 0 ||
		!strings.Contains(r.err, "The chest is closed. To open it for a working day:\n  unicrux chest open\n") {
		t.Errorf("a closed chest: %s", r)
	}
	p.openChest()
	p.mustGit("clone", "--quiet", url, "work")
	p.commit("work", "one.txt")
	p.mustGit("-C", "work", "push", "--quiet")
	before := p.host.Passes("ines.marlow")
	if r := p.must("token", "renew", "forge"); !strings.Contains(r.out, "in 90 days") {
		t.Errorf("renew: %s", r)
	}
	if after := p.host.Passes("ines.marlow"); after != before {
		t.Errorf("renewed: %d tokens, there were %d", after, before)
	}
	p.mustGit("-C", "work", "fetch")
	p.must("token", "test", "forge")
	for path, want := range map[string]string{"buoys/drift-model": "read and write",
		"harbour/lamp-firmware": "read there, and not write", "council/minutes": "opens nothing"} {
		if r := p.unicrux("token", "test", "forge", "--url",
			p.cloneHTTPS(path)); !strings.Contains(strings.Join(strings.Fields(r.out), " "), want) {
			t.Errorf("tried at %s: %s", path, r)
		}
	}
	if r := p.unicrux("token", "test", "forge", "--url", "https://elsewhere.example/x.git"); r.exit == 0 ||
		!strings.Contains(r.err, "another host") {
		t.Errorf("tried at another host: %s", r)
	}
	p.must("chest", "close")
	if r := p.git("-C", "work", "fetch"); r.exit == 0 {
		t.Errorf("closed again: %s", r)
	}
	p.openChest()
	p.must("token", "revoke", "forge")
	if r := p.git("-C", "work", "fetch"); r.exit == 0 {
		t.Errorf("revoked: %s", r)
	}
	if r := p.must("token", "list"); !strings.Contains(r.out, "no tokens") {
		t.Errorf("revoked, and listed: %s", r)
	}
	p.must("host", "drop", "forge")
	if config := p.readIfThere(".gitconfig") + p.readIfThere(".config", "unicrux",
		"git.config"); strings.Contains(config, "for-git credential") {
		t.Errorf("dropped, and git still asks:\n%s", config)
	}
}

// TestRefusedInPlace explains on git's own output why a token is refused.
func TestRefusedInPlace(t *testing.T) {
	t.Parallel()
	p := withHost(t).withChest()
	url := p.cloneHTTPS("buoys/drift-model")
	if r := p.newToken("--for", "clone"); r.exit != 0 {
		t.Fatal(r)
	}
	p.openChest()
	p.mustGit("clone", "--quiet", url, "work")
	p.commit("work", "one.txt")
	r := p.git("-C", "work", "push")
	if words := strings.Join(strings.Fields(r.err), " "); r.exit == 0 ||
		!strings.Contains(r.err, "this token may not write") ||
		!strings.Contains(
			words,
			"The token forge is for clone, and this is a push. To make one that may push: unicrux token new forge --for push",
		) {
		t.Errorf("too narrow: %s", r)
	}
	if r := p.git("-C", "work", "fetch"); r.exit != 0 || r.err != "" {
		t.Errorf("no push: %s", r)
	}
	// A token that the host has forgotten.
	token := strings.TrimSpace(p.must("token", "show", "forge", "--reveal").out)
	if !p.host.Revoke(token) {
		t.Fatal("the host did not know it")
	}
	r = p.git("-C", "work", "fetch")
	if words := strings.Join(strings.Fields(r.err), " "); r.exit == 0 ||
		!strings.Contains(
			words,
			"forge does not know the token forge. It was taken out of the chest. To make a new one: unicrux token new forge",
		) {
		t.Errorf("revoked elsewhere: %s", r)
	}
	// One that has ended.
	short := p.host.Issue("ines.marlow", "short", []string{"repo:read", "repo:write"}, time.Now().Add(2*time.Second))
	if r := p.run(short, program, "token", "add", "forge", "--from", "-"); r.exit != 0 {
		t.Fatal(r)
	}
	eventually(t, "the end of the token", func() bool {
		r = p.git("-C", "work", "push")
		return strings.Contains(r.err, "The token forge expired on")
	})
	if !strings.Contains(r.err, "unicrux token new forge") {
		t.Errorf("ended: %s", r)
	}
	if c := p.check(url, "--for", "push"); c.Open || c.Crux.Code != "token-ended" ||
		!strings.Contains(strings.Join(c.Crux.Evidence, " "), "in the chest: the token forge") {
		t.Errorf("ended: %+v", c.Crux)
	}
	if r := p.newToken("--for", "push"); r.exit != 0 {
		t.Fatal(r)
	}
	p.mustGit("-C", "work", "push", "--quiet")
	if r := p.must("token", "list"); strings.Contains(r.out, "forge-2") || strings.Contains(r.out, "ended") {
		t.Errorf("the ended one stays: %s", r)
	}
	if strings.Contains(r.err+r.out, short) || strings.Contains(r.err+r.out, token) {
		t.Error("a token is in the output")
	}
}

// TestTokensOfTwoAccounts uses one token in one folder and another in the other, by themselves.
func TestTokensOfTwoAccounts(t *testing.T) {
	t.Parallel()
	p := withHost(t).withChest()
	p.write("", "lab", "keep")
	p.must("host", "account", "add", "lab@forge", "--folder", p.path("lab"))
	if r := p.newToken(); r.exit != 0 {
		t.Fatal(r)
	}
	p.must("token", "add", "lab@forge", "--from", p.host.TokenFileOf("lab"))
	p.openChest()
	url := p.cloneHTTPS("buoys/drift-model")
	p.mustGit("clone", "--quiet", url, "mine")
	p.mustGit("init", "--quiet", "lab/work")
	p.mustGit("-C", "lab/work", "remote", "add", "origin", url)
	for folder, account := range map[string]string{"mine": "ines.marlow", "lab/work": "lab"} {
		before := p.host.LastUsed(account)
		p.mustGit("-C", folder, "fetch", "--quiet", "origin")
		if !p.host.LastUsed(account).After(before) {
			t.Errorf("%s: not by the token of %s", folder, account)
		}
	}
	if r := p.unicrux("token", "add", "lab@forge", "--from", p.host.TokenFile()); r.exit != 1 ||
		!strings.Contains(r.err, "another account's") {
		t.Errorf("another account's token: %s", r)
	}
}

// TestPastedTokens recognises what is no token, before it is sent anywhere.
func TestPastedTokens(t *testing.T) {
	t.Parallel()
	p := withHost(t).withChest()
	p.must("key", "new", "mine", "--no-passphrase")
	good := strings.TrimSpace(p.read2(p.host.TokenFile()))
	for text, want := range map[string]string{
		"hunter2":                                "account's password",
		good[:len(good)-6]:                       "a part of a token",
		good[:6] + "…" + good[20:]:               "shortened",
		p.read(".ssh", "mine.pub"):               "public line of a key",
		p.read(".ssh", "mine.pub")[:40]:          "public line of a key",
		p.read(".ssh", "mine"):                   "private key",
		"SHA256:abc":                             "fingerprint",
		"https://forge.tidewater.example/tokens": "an address",
		"two words":                              "white space",
		" \n":                                    "nothing in it",
	} {
		r := p.run(text, program, "token", "add", "forge", "--from", "-", "--chest-passphrase-from",
			p.path("chest-words"))
		if r.exit != 1 || !strings.Contains(r.err, want) || strings.Contains(r.err+r.out, strings.TrimSpace(text+"x")) {
			t.Errorf("%.20q: want %q: %s", text, want, r)
		}
	}
	r := p.run("\n  \""+good+"\"\r\n", program, "token", "add", "forge", "--from", "-", "--chest-passphrase-from",
		p.path("chest-words"))
	if r.exit != 0 || !strings.Contains(r.out, "ines.marlow's") {
		t.Errorf("with quotes and white space: %s", r)
	}
}

// TestSecondStep issues a pass at a host that wants the account's password and a code, which are
// typed on a terminal.
func TestSecondStep(t *testing.T) {
	t.Parallel()
	p := at(t, "saltmarsh").withChest()
	p.write("practice password\n", "password")
	args := []string{"token", "new", "saltmarsh", "--account", "imarlow", "--password-from", p.path("password"),
		"--chest-passphrase-from", p.path("chest-words")}
	if r := p.unicrux(args...); r.exit != 4 || !strings.Contains(r.err, "requires a code for a second step") {
		t.Errorf("nobody to ask: %s", r)
	}
	out := p.onTerminal([]string{"271828\n"}, args...).out
	if !strings.Contains(out, "it is imarlow's") {
		t.Errorf("on a terminal: %s", out)
	}
	if strings.Contains(out, "271828") || strings.Contains(out, "practice password") {
		t.Errorf("what was typed is shown: %s", out)
	}
	p.openChest()
	p.mustGit("clone", "--quiet", p.cloneHTTPS("buoys/drift-model"), "work")
	p.commit("work", "one.txt")
	p.mustGit("-C", "work", "push", "--quiet")
	if c := p.check(p.cloneHTTPS("buoys/drift-model")); c.Account == nil || *c.Account != "imarlow" {
		t.Errorf("whose token it is: %+v", c)
	}
	if r := p.unicrux("token", "new", "saltmarsh", "--account", "imarlow", "--until", "1y", "--password-from",
		p.path("password")); r.exit != 2 || !strings.Contains(r.err, "90d is the most") {
		t.Errorf("too long: %s", r)
	}
}

// TestReadyByPassword gets a clone at a host that issues tokens for the account's password alone: all
// of it is typed on a terminal.
func TestReadyByPassword(t *testing.T) {
	t.Parallel()
	p := at(t, "saltmarsh").withChest()
	url := p.cloneHTTPS("buoys/drift-model")
	if r := p.unicrux("ready", url, "--by", "https", "--chest-passphrase-from", p.path("chest-words")); r.exit != 4 ||
		!strings.Contains(r.err, "--account") {
		t.Errorf("nobody to ask: %s", r)
	}
	out := p.onTerminal([]string{"imarlow\n", "practice password\n", "271828\n"}, "ready", url, "--by", "https",
		"--chest-passphrase-from", p.path("chest-words")).out
	if !strings.Contains(out, "You can clone buoys/drift-model as imarlow.") ||
		!strings.Contains(out, "Cloned into") || strings.Contains(out, "271828") ||
		strings.Contains(out, "practice password") {
		t.Errorf("on a terminal: %s", out)
	}
}

// TestSignInAtServersOfOthers signs in by the built program at a real OAuth server, for a host
// that has no interface; the token renews itself.
func TestSignInAtServersOfOthers(t *testing.T) {
	t.Parallel()
	issuer, cert := oauthServer(t)
	p := newPerson(t).withChest()
	p.write(
		fmt.Sprintf(
			"unicrux = 1\nname = \"quay\"\n[ssh]\nhost = \"quay.tidewater.example\"\nuser = \"git\"\n[purposes]\nclone = [\"openid\", \"offline_access\", \"repo:read\"]\n[oauth]\nissuer = %q\nclient = \"unicrux\"\nauthority = \"\"\"%s\"\"\"\n",
			issuer,
			p.read2(cert),
		),
		"quay.toml",
	)
	p.must("host", "add", p.path("quay.toml"))
	done := make(chan result, 1)
	said := filepath.Join(p.home, "said")
	go func() {
		done <- p.run("", "sh", "-c",
			program+" token sign-in quay --for clone --chest-passphrase-from chest-words 2> said")
	}()
	var page string
	eventually(t, "the code", func() bool {
		text, _ := os.ReadFile(said)
		_, rest, found := strings.Cut(string(text), "The same in one:\n  ")
		page, _, _ = strings.Cut(rest, "\n")
		return found && page != ""
	})
	newBrowser(t).allow(page)
	if r := <-done; r.exit != 0 || !strings.Contains(r.out, "renews itself") ||
		!strings.Contains(r.out, "Tested by introspection") {
		t.Fatalf("%s\n%s", r, p.read("said"))
	}
	p.openChest()
	before := p.must("token", "show", "quay", "--reveal").out
	p.must("token", "renew", "quay")
	if p.must("token", "show", "quay", "--reveal").out == before {
		t.Error("the token did not change")
	}
	p.must("token", "test", "quay")
	p.must("token", "revoke", "quay")
}

// TestSignInByBrowser signs in at a real OAuth server by a browser on this computer.
func TestSignInByBrowser(t *testing.T) {
	t.Parallel()
	issuer, cert := oauthServer(t)
	p := newPerson(t).withChest()
	p.write(
		fmt.Sprintf(
			"unicrux = 1\nname = \"quay\"\n[ssh]\nhost = \"quay.tidewater.example\"\nuser = \"git\"\n[purposes]\nclone = [\"openid\", \"offline_access\", \"repo:read\"]\n[oauth]\nissuer = %q\nclient = \"unicrux-here\"\nparameters = { prompt = \"consent\" }\nauthority = \"\"\"%s\"\"\"\n",
			issuer,
			p.read2(cert),
		),
		"quay.toml",
	)
	p.must("host", "add", p.path("quay.toml"))
	done := make(chan result, 1)
	go func() {
		done <- p.run("", "sh", "-c",
			program+" token sign-in quay --browser --for clone --chest-passphrase-from chest-words 2> said")
	}()
	var page string
	eventually(t, "the address", func() bool {
		text, _ := os.ReadFile(p.path("said"))
		_, rest, found := strings.Cut(string(text), "on this computer:\n  ")
		page, _, _ = strings.Cut(rest, "\n")
		return found && strings.Contains(rest, "\n")
	})
	newBrowser(t).allow(page)
	if r := <-done; r.exit != 0 || !strings.Contains(r.out, "renews itself") {
		t.Fatalf("%s\n%s", r, p.read("said"))
	}
	p.openChest()
	p.must("token", "test", "quay")
	p.must("token", "renew", "quay")
	if strings.Contains(p.read("said"), "code_verifier") {
		t.Error("the proof is shown")
	}
}

// TestTokenForInterface shows the host's interface a token from the chest that is for keys, and no
// other, without asking anybody.
func TestTokenForInterface(t *testing.T) {
	t.Parallel()
	p := withHost(t).withChest()
	p.must("key", "new", "--host", "forge", "--no-passphrase")
	p.must("host", "trust", "forge")
	keep := func(label, purposes string, scopes ...string) {
		t.Helper()
		text := p.host.Issue("ines.marlow", label, scopes, time.Now().AddDate(0, 1, 0))
		if r := p.run(text, program, "token", "add", "forge", "--for", purposes, "--from", "-",
			"--chest-passphrase-from", p.path("chest-words")); r.exit != 0 {
			t.Fatal(r)
		}
	}
	keep("narrow", "clone", "repo:read")
	if r := p.unicrux("key", "register", "forge_ed25519", "forge"); r.exit != 4 {
		t.Errorf("a token that is for something else: %s", r)
	}
	keep("wide", "keys", "keys")
	p.must("chest", "close")
	if r := p.unicrux("key", "register", "forge_ed25519", "forge"); r.exit != 4 {
		t.Errorf("a closed chest: %s", r)
	}
	p.openChest()
	if r := p.must("key", "register", "forge_ed25519", "forge"); !strings.Contains(r.err,
		"The token forge-2 from the chest is shown to the API of forge.") {
		t.Errorf("registered: %s", r)
	}
	p.must("undo")
	if r := p.unicrux("repo", "list", "forge"); r.exit != 4 {
		t.Errorf("another purpose: %s", r)
	}
}

// TestTokenFollowsItsHost lets the description of a host lead elsewhere: the token goes there once the
// person has said so and it was seen to work, and not before.
func TestTokenFollowsItsHost(t *testing.T) {
	t.Parallel()
	p := withHost(t).withChest()
	if r := p.newToken(); r.exit != 0 {
		t.Fatal(r)
	}
	p.openChest()
	url := p.cloneHTTPS("buoys/drift-model")
	// The same host under another address of this computer: what listens there is the same.
	text := p.read2(p.host.DescriptionFile())
	p.write(strings.ReplaceAll(text, `address = "127.0.0.1"`, `address = "::ffff:127.0.0.1"`), "moved.toml")
	p.must("host", "add", p.path("moved.toml"), "--yes")
	p.must("host", "set", "forge", "by=https")
	if c := p.check(url); c.Open || c.Crux.Code != "token-elsewhere" || len(c.Mends) != 1 ||
		strings.Join(c.Mends[0].Command, " ") != "unicrux token test forge" {
		t.Errorf("before: %+v, %+v", c.Crux, c.Mends)
	}
	if r := p.unicrux("token", "test", "forge"); r.exit != 4 ||
		!strings.Contains(r.err, "names another place than when the token forge was stored") {
		t.Errorf("unasked: %s", r)
	}
	p.must("token", "test", "forge", "--yes")
	if c := p.check(url); !c.Open {
		t.Errorf("afterwards: %+v", c.Crux)
	}
	p.mustGit("ls-remote", url)
	p.must("token", "test", "forge")
}
