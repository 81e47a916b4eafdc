package trust

import (
	"crypto/ed25519"
	"strings"
	"testing"

	"golang.org/x/crypto/ssh"

	"anchorage.example/unicrux/core/sshkey"
)

// TestClaimsOn looks for a host's key on a page, whatever markup is in it.
func TestClaimsOn(t *testing.T) {
	t.Parallel()
	key, err := ssh.NewPublicKey(ed25519.NewKeyFromSeed([]byte(strings.Repeat("k", 32))).Public())
	if err != nil {
		t.Fatal(err)
	}
	print := sshkey.Fingerprint(key)
	for _, row := range []struct {
		name, page string
		found      bool
		quotes     string
	}{
		{"plain", "<html><p>Our key is " + print + ".</p>", true, "Our key is SHA256:"},
		{"escaped", "<td>" + strings.NewReplacer("+", "&#43;", "/", "&#x2F;").Replace(print), true, ""},
		{"broken by tags", "<code>" + print[:20] + "<wbr>" + print[20:] + "</code>", true, ""},
		{"between tags", "<td>SHA</td><td>" + print + "</td><td>ED25519</td>", true, ""},
		{"MD5", "<html>" + ssh.FingerprintLegacyMD5(key), true, ""},
		{"a line", "<pre>forge " + sshkey.Line(key, "") + "</pre>", true, "forge ssh-ed25519"},
		{"among others", "SHA256:" + strings.Repeat("B", 43) + " old<br>" + print, true, ""},
		{"another key", "SHA256:" + strings.Repeat("B", 43), false, ""},
		{"nothing", "<html>Welcome", false, ""},
		{"half of it", print[:40], false, ""},
	} {
		found := false
		for _, claim := range claimsOn(row.page) {
			if claim.Is(key) {
				found = true
				if !strings.Contains(claim.place, row.quotes) || strings.ContainsAny(claim.place, "<>\n") {
					t.Errorf("%s: quotes %q", row.name, claim.place)
				}
			}
		}
		if found != row.found {
			t.Errorf("%s: found %v", row.name, found)
		}
	}
	if list := claimsOn("<html>Welcome to SHA256: and 00:11:22"); len(list) != 0 {
		t.Errorf("claims out of nothing: %v", list)
	}
}
