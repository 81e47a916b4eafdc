package acceptance

import (
	"os"
	"strings"
	"testing"
)

// TestPolicy: what the administrator's policy forbids is refused where it would be made, by the rule's name, and
// nothing is left behind.
func TestPolicy(t *testing.T) {
	t.Parallel()
	p := withHost(t)
	p.write("a long one\n", "pass")
	pass := p.path("pass")
	p.must("key", "new", "old", "--passphrase-from", pass)
	p.write(`unicrux = 1
name = "tidewater"
[rules]
key-no-passphrase = "must"
key-weak = { level = "must", kinds = ["ed25519"] }
token-longest = { level = "must", days = 30 }
chest-place = { level = "must", places = ["sealed"] }
`, ".machine", "policy.toml")
	p.chmod(0o755, ".machine")
	p.chmod(0o644, ".machine", "policy.toml")
	before, stood := p.read(".ssh", "old"), len(p.changes())
	for _, row := range []struct{ rule, args string }{
		{"key-no-passphrase", "key new --no-passphrase"},
		{"key-no-passphrase", "key new --no-passphrase --dry-run"},
		{"key-no-passphrase", "key passphrase old --no-passphrase --passphrase-from " + pass},
		{"key-no-passphrase", "key save old --format pkcs8 --out old.pem --no-passphrase --passphrase-from " + pass},
		{"key-no-passphrase", "ready " + drift + " --no-passphrase --yes"},
		{"key-weak", "key new --type ecdsa --passphrase-from " + pass},
		{"token-longest", "token new forge --until 31d --password-from " + p.host.TokenFile()},
		{"chest-place", "chest move --to memory"},
	} {
		r := p.unicrux(strings.Fields(row.args)...)
		if r.exit != 1 || !strings.Contains(r.err, "(rule "+row.rule+", ") {
			t.Errorf("%s: %s", row.args, r)
		}
	}
	if after := p.read(".ssh", "old"); after != before {
		t.Error("the key's passphrase was taken off")
	}
	if n := len(p.changes()); n != stood {
		t.Errorf("%d changes where none is allowed", n-stood)
	}
	for _, file := range []string{"id_ed25519", "id_ecdsa", "forge_ed25519"} {
		if _, err := os.Stat(p.path(".ssh", file)); err == nil {
			t.Errorf("%s is there", file)
		}
	}
	p.must("key", "new", "--passphrase-from", pass)
	p.write("unicrux = 1\n[rules]\nkey-week = \"must\"\n", ".machine", "policy.toml")
	r := p.unicrux("key", "new", "another", "--passphrase-from", pass)
	if r.exit == 0 || !strings.Contains(r.err, "line 3") || !strings.Contains(r.err, `"key-weak" was perhaps meant`) {
		t.Errorf("a policy that cannot be read: %s", r)
	}
	p.must("key", "list") // what makes nothing goes on
}
