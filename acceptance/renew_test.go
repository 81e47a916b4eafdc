package acceptance

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/origin"
	"anchorage.example/unicrux/core/renewal"
	"anchorage.example/unicrux/core/secret"
	"anchorage.example/unicrux/core/site"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/workstation"
	"anchorage.example/unicrux/demo"
	"anchorage.example/unicrux/standin"
)

const harbour = "git@harbour.tidewater.example:buoys/drift-model.git"

// withHarbour describes a second host, and makes the key of the first known there too. It
// returns where its token lies.
func (p *person) withHarbour() (host *standin.Host, token string) {
	p.t.Helper()
	host, err := demo.Serve("forge", standin.Options{})
	if err != nil {
		p.t.Fatal(err)
	}
	p.t.Cleanup(func() { _ = host.Close() })
	text, err := os.ReadFile(host.DescriptionFile())
	if err != nil {
		p.t.Fatal(err)
	}
	description := strings.Replace(string(text), `name = "forge"`, `name = "harbour"`, 1)
	description = strings.Replace(description, `host = "forge.tidewater.example"`,
		`host = "harbour.tidewater.example"`, 1)
	p.write(description, "harbour.toml")
	p.must("host", "add", p.path("harbour.toml"))
	p.must("host", "trust", "harbour")
	p.must("key", "register", "forge_ed25519", "harbour", "--token-from", host.TokenFile())
	return host, host.TokenFile()
}

// TestRenew renews a key at two hosts, each with a token of its own.
func TestRenew(t *testing.T) {
	t.Parallel()
	p := settled(t)
	_, second := p.withHarbour()
	tokens := []string{"--token-from", p.host.TokenFile(), "--token-from", "harbour=" + second}
	if r := p.unicrux("key", "renew", "forge_ed25519", "--no-passphrase", "--token-from",
		p.host.TokenFile()); r.exit != 2 || !strings.Contains(r.err, "harbour needs its own") {
		t.Errorf("one token for two hosts: %s", r)
	}
	p.wants(drift, "") // whatever was done till then
	p.wants(harbour, "")
	r := p.must(append([]string{"key", "renew", "forge_ed25519", "--no-passphrase"}, tokens...)...)
	for _, words := range []string{"Going on with forge_ed25519_2", "forge_ed25519_2 is in the place of forge_ed25519",
		"harbour no longer knows forge_ed25519"} {
		if !strings.Contains(r.out, words) {
			t.Errorf("no %q: %s", words, r)
		}
	}
	p.wants(drift, "")
	p.wants(harbour, "")
	if p.exists(".ssh", "forge_ed25519") || p.exists(".ssh", "forge_ed25519.pub") ||
		strings.Contains(p.read(".ssh", "unicrux.conf"), "forge_ed25519\n") {
		t.Error("the old key is still in place")
	}
	if r := p.unicrux("key", "renew", "forge_ed25519"); r.exit != 0 || !strings.Contains(r.out, "was renewed already") {
		t.Errorf("once more: %s", r)
	}
	// Another key that has the name of the old one is renewed by a pair of its own.
	p.must("key", "new", "forge_ed25519", "--no-passphrase")
	p.must("key", "register", "forge_ed25519", "forge", "--token-from", p.host.TokenFile())
	if r := p.must("key", "renew", "forge_ed25519", "--no-passphrase", "--token-from",
		p.host.TokenFile()); !strings.Contains(r.out, "Made forge_ed25519_3") {
		t.Errorf("another key of that name: %s", r)
	}
	p.wants(drift, "")
	for range 3 { // back to the first renewal
		p.must(append([]string{"undo"}, tokens...)...)
	}
	undo := p.must(append([]string{"undo"}, tokens...)...)
	if !p.exists(".ssh", "forge_ed25519") || !strings.Contains(undo.out, "What cannot be brought back") {
		t.Errorf("undo: %s", undo)
	}
}

// TestRenewOnlyHere renews at one host of two: the old key stays for the other.
func TestRenewOnlyHere(t *testing.T) {
	t.Parallel()
	p := settled(t)
	p.withHarbour()
	r := p.must("key", "renew", "forge_ed25519", "--host", "forge", "--no-passphrase", "--token-from",
		p.host.TokenFile())
	if !strings.Contains(r.out, "forge_ed25519 stays where it is") ||
		!strings.Contains(r.out, "still lead to the old key") {
		t.Errorf("%s", r)
	}
	p.wants(drift, "")
	p.wants(harbour, "")
}

// TestRenewRefused has what cannot be renewed.
func TestRenewRefused(t *testing.T) {
	t.Parallel()
	p := settled(t)
	p.must("key", "new", "nowhere", "--no-passphrase")
	if r := p.unicrux("key", "renew", "nowhere", "--no-passphrase"); r.exit != 1 ||
		!strings.Contains(r.err, "no host that is described here knows this key") || p.exists(".ssh", "nowhere_2") {
		t.Errorf("a key that nobody knows: %s", r)
	}
	p.must("key", "withdraw", "forge_ed25519", "forge", "--token-from", p.host.TokenFile())
	p.must("key", "register", "forge_ed25519", "forge", "--until", "30d", "--access", "read", "--token-from",
		p.host.TokenFile())
	if r := p.unicrux("key", "renew", "forge_ed25519", "--no-passphrase", "--token-from",
		p.host.TokenFile()); r.exit != 2 || !strings.Contains(r.err, "--until") {
		t.Errorf("an end that is not given: %s", r)
	}
	p.must("key", "renew", "forge_ed25519", "--no-passphrase", "--until", "1y", "--token-from", p.host.TokenFile())
	if r := p.must("key", "compare", "forge", "--token-from", p.host.TokenFile(), "--json"); strings.Count(r.out,
		`"access": "read"`) != 1 {
		t.Errorf("the access of the old one: %s", r)
	}
	if r := p.must("key", "renew", "forge_ed25519_2", "--until", "1y", "--dry-run"); !strings.Contains(r.out,
		"Would: Withdraw forge_ed25519_2 from forge.") || p.exists(".ssh", "forge_ed25519_3") {
		t.Errorf("a dry run: %s", r)
	}
}

// TestRenewLocked keeps programs that cannot ask at work: the new key is held before
// settings lead to it.
func TestRenewLocked(t *testing.T) {
	t.Parallel()
	p := lockedAway(t)
	p.must("key", "load", "forge_ed25519", "--passphrase-from", p.path("passphrase"))
	p.wants(drift, "")
	p.must("key", "renew", "forge_ed25519", "--passphrase-from", p.path("passphrase"), "--token-from",
		p.host.TokenFile())
	p.wants(drift, "")
	if h := p.holder(); len(h.Keys) != 1 || h.Keys[0].Comment != p.path(".ssh", "forge_ed25519_2") {
		t.Errorf("it holds %+v", h)
	}
}

// TestRetire takes a key out of use, and brings it back.
func TestRetire(t *testing.T) {
	t.Parallel()
	p := settled(t)
	_, second := p.withHarbour()
	tokens := []string{"--token-from", "forge=" + p.host.TokenFile(), "--token-from", "harbour=" + second}
	p.write(p.read(".ssh", "config")+"\nHost buoy\n  IdentityFile "+p.path(".ssh", "forge_ed25519")+"\n",
		".ssh", "config")
	before := p.everything()
	r := p.must(append([]string{"key", "retire", "forge_ed25519"}, tokens...)...)
	if !strings.Contains(r.out, "withdrawn from forge, harbour") || !strings.Contains(r.out, "Host buoy") ||
		p.exists(".ssh", "forge_ed25519") {
		t.Errorf("%s", r)
	}
	p.wants(drift, "key-none")
	p.must(append([]string{"undo"}, tokens...)...)
	if p.everything() != before {
		t.Errorf("undo leaves another home:\n%s\nbefore:\n%s", p.everything(), before)
	}
	p.wants(drift, "")
	p.wants(harbour, "")
	p.must("key", "retire", "forge_ed25519", "--here-only")
	p.must("undo")
	p.wants(drift, "")
}

// errCut ends a run at one of its points, as a crash would.
var errCut = errors.New("cut short")

// TestRenewCutShort cuts a renewal short before and after every single step, with the real
// client signing in at each point, and lets the next run finish.
func TestRenewCutShort(t *testing.T) {
	t.Parallel()
	p := settled(t)
	_, second := p.withHarbour()
	station, err := workstation.Here(p.environ())
	if err != nil {
		t.Fatal(err)
	}
	tokens := map[string]string{"forge": p.host.TokenFile(), "harbour": second}
	secrets := site.Secrets{
		NewPassphrase: func(string) (secret.Text, error) { return secret.Text{}, nil },
		Token: func(host *describe.Description) (origin.Bound, error) {
			text, err := os.ReadFile(tokens[host.Name])
			return host.Bind(secret.New([]byte(strings.TrimSpace(string(text))))), err
		},
	}
	at, points := 0, 0
	signsIn := func(words string) {
		url := []string{drift, harbour}[points%2]
		if r := p.git("ls-remote", url); r.exit != 0 {
			t.Fatalf("cut at %d, at point %d (%s): nothing opens %s: %s", at, points, words, url, r)
		}
	}
	renew := func(old string, cut bool) (err error) {
		if _, err := station.Tidy(); err != nil { // as the program does when it starts
			t.Fatal(err)
		}
		registry, err := hosts.Open(station)
		if err != nil {
			t.Fatal(err)
		}
		pair, err := sshkey.Load(old)
		if err != nil {
			t.Fatal(err)
		}
		points = 0
		station.Fault = func(words string) {
			points++
			if points == at || points%5 == at%5 && !cut { // the others are the same as in other runs
				signsIn(words)
			}
			if cut && points == at {
				panic(errCut)
			}
		}
		defer func() {
			if cause := recover(); cause != nil && cause != any(errCut) {
				panic(cause)
			} else if cause != nil {
				err = errCut
			}
		}()
		place := site.Site{Station: station, Registry: registry}
		_, err = renewal.Renew(context.Background(), place, station.Begin("Renew.", false),
			renewal.Renewal{Old: pair, Told: func(string) {}}, secrets)
		return err
	}
	old := p.path(".ssh", "forge_ed25519")
	for at = 1; ; at++ {
		cut := renew(old, true)
		if cut != nil && !errors.Is(cut, errCut) {
			t.Fatalf("cut at %d: %v", at, cut)
		}
		signsIn("after the cut")
		if _, err := os.Stat(old); cut != nil && err == nil {
			if err := renew(old, false); err != nil {
				t.Fatalf("cut at %d, the next run: %v", at, err)
			}
		}
		signsIn("at the end")
		left, err := filepath.Glob(p.path(".ssh", "forge_ed25519*"))
		if err != nil || len(left) != 2 {
			t.Fatalf("cut at %d: %d files are left: %v, %v", at, len(left), left, err)
		}
		if old = left[0]; cut == nil {
			break
		}
	}
	if at < 20 {
		t.Errorf("only %d points", at)
	}
	for name, token := range tokens {
		if r := p.must("key", "compare", name, "--token-from", token, "--json"); strings.Count(r.out, `"id": "`) != 1 {
			t.Errorf("%s knows other keys as well: %s", name, r)
		}
	}
}
