package acceptance

import (
	"os"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"
)

func (p *person) register(args ...string) result {
	p.t.Helper()
	return p.unicrux(append([]string{"key", "register", "forge_ed25519", "forge", "--token-from",
		p.host.TokenFile()}, args...)...)
}

// TestRegisterOnTerms registers with an end and for reading only, twice, and otherwise.
func TestRegisterOnTerms(t *testing.T) {
	t.Parallel()
	p := withHost(t)
	p.must("key", "new", "--host", "forge", "--no-passphrase")
	p.must("host", "trust", "forge")
	day := time.Now().AddDate(0, 0, 90).Format(time.DateOnly)
	r := p.register("--until", "90d", "--access", "read", "--title", "Ines, at sea")
	if r.exit != 0 || !strings.Contains(r.out,
		"forge knows forge_ed25519 now, as “Ines, at sea”. It may read and not write") ||
		!strings.Contains(r.out, day) {
		t.Fatal(r)
	}
	if r := p.register("--until", day); r.exit != 0 || !strings.Contains(r.out, "knew forge_ed25519 already") {
		t.Errorf("the second time: %s", r)
	}
	for _, args := range [][]string{{"--access", "write"}, {"--until", "30d"}} {
		if r := p.register(args...); r.exit != 1 || !strings.Contains(r.err, "on other terms") ||
			!strings.Contains(r.err, "unicrux key withdraw") {
			t.Errorf("%s: %s", args, r)
		}
	}
	r = p.must("key", "compare", "forge", "--token-from", p.host.TokenFile())
	for _, words := range []string{"“Ines, at sea”", "reads only", "used ", "expires in 90 days"} {
		if !strings.Contains(r.out, words) {
			t.Errorf("no %q: %s", words, r)
		}
	}
	p.must("key", "withdraw", "forge_ed25519", "forge", "--token-from", p.host.TokenFile())
	p.must("undo", "--token-from", p.host.TokenFile())
	if r := p.must("key", "compare", "forge", "--token-from", p.host.TokenFile(), "--json"); !strings.Contains(r.out,
		`"access": "read"`) || strings.Contains(r.out, `"until": null`) {
		t.Errorf("after undo of the withdrawal: %s", r)
	}
}

// TestRegisterRefused has everything that is refused, with its reason.
func TestRegisterRefused(t *testing.T) {
	t.Parallel()
	p := withHost(t)
	p.must("key", "new", "--host", "forge", "--no-passphrase")
	p.must("host", "trust", "forge")
	for _, row := range []struct {
		args []string
		exit int
		want string
	}{
		{[]string{"--until", "yesterday"}, 2, "an end is a day"},
		{[]string{"--until", "2020-01-01"}, 2, "is in the future"},
		{[]string{"--access", "admin"}, 2, "--access accepts read or write"},
		{[]string{"--title", strings.Repeat("x", 201)}, 2, "at most 200 characters"},
		{[]string{"--title", "two\nlines"}, 2, "one line of plain text"},
	} {
		if r := p.register(row.args...); r.exit != row.exit || !strings.Contains(r.err, row.want) {
			t.Errorf("%s: %s", row.args, r)
		}
	}
	if r := p.unicrux("key", "register", "forge_ed25519.pub", "forge"); r.exit != 2 {
		t.Errorf("the public half: %s", r)
	}

	key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(p.must("key", "show", "forge_ed25519", "--line").out))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := p.host.Register("lab", "the laboratory's", key); err != nil {
		t.Fatal(err)
	}
	if r := p.register(); r.exit != 1 || !strings.Contains(r.err, "for another account: it opens lab") ||
		!strings.Contains(r.err, "unicrux key new") {
		t.Errorf("another account's: %s", r)
	}

	p.host.Block("ines.marlow", true)
	if r := p.register(); r.exit != 1 || !strings.Contains(r.err, "The host says that this account may not sign in") ||
		!strings.Contains(r.err, "ines.marlow is blocked") {
		t.Errorf("a blocked account: %s", r)
	}

	p.leaveWeakKey()
	if r := p.unicrux("key", "register", "id_rsa", "forge", "--token-from", p.host.TokenFile()); r.exit != 1 ||
		!strings.Contains(r.err, "no longer accept keys of this type and size") {
		t.Errorf("a weak key: %s", r)
	}
	p.edit(`kinds = ["ed25519", "ecdsa", "rsa"]`, `kinds = ["ecdsa"]`, ".config", "unicrux", "hosts", "forge.toml")
	if r := p.register(); r.exit != 1 || !strings.Contains(r.err, "forge_ed25519 is ed25519, and forge accepts ecdsa") {
		t.Errorf("a kind that the host does not take: %s", r)
	}
	p.edit(`, until = "{until}", access = "{access}"`, "", ".config", "unicrux", "hosts", "forge.toml")
	p.edit(`kinds = ["ecdsa"]`, "", ".config", "unicrux", "hosts", "forge.toml")
	if r := p.register("--until", "1y"); r.exit != 1 || !strings.Contains(r.err, "accepts no expiry date for a key") {
		t.Errorf("an end that the interface does not take: %s", r)
	}
	if _, err := os.Stat(p.path(".ssh", "forge_ed25519")); err != nil {
		t.Error(err)
	}
}
