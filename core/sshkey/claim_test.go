package sshkey

import (
	"crypto/ed25519"
	"crypto/md5"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"strings"
	"testing"

	"golang.org/x/crypto/ssh"
)

func claimKeys(t testing.TB) (ours, other ssh.PublicKey) {
	t.Helper()
	make := func(seed byte) ssh.PublicKey {
		key, err := ssh.NewPublicKey(ed25519.NewKeyFromSeed([]byte(strings.Repeat(string(rune(seed)), 32))).Public())
		if err != nil {
			t.Fatal(err)
		}
		return key
	}
	return make('a'), make('b')
}

// TestClaims: what pages and people write about a key is about that key, and about no other.
func TestClaims(t *testing.T) {
	t.Parallel()
	key, other := claimKeys(t)
	print, line := Fingerprint(key), Line(key, "")
	bare := strings.TrimPrefix(print, "SHA256:")
	sum, old := sha256.Sum256(key.Marshal()), md5.Sum(key.Marshal())
	md5Text := ssh.FingerprintLegacyMD5(key)
	for _, text := range []string{print, bare, print + "=", bare + "=", " " + print + "\n", "sha256:" + bare,
		"256 " + print + " forge (ED25519)", "(" + print + ").", hex.EncodeToString(sum[:]), md5Text, "MD5:" + md5Text,
		"md5:" + strings.ToUpper(md5Text), hex.EncodeToString(old[:]), line, line + " forge",
		"forge.tidewater.example " + line, strings.Fields(line)[1], "@cert-authority * " + line} {
		claim, err := ParseClaim(text)
		if err != nil || !claim.Is(key) || claim.Is(other) {
			t.Errorf("%q: %v, of the key: %v, of another: %v", text, err, claim.Is(key), claim.Is(other))
		}
		if again, err := ParseClaim(claim.String()); err != nil || !again.Is(key) {
			t.Errorf("%q is written as %q: %v", text, claim, err)
		}
	}
	for _, text := range []string{"", "yes", "SHA256:", print[:len(print)-2], print + "A", "SHA1:" + bare, "aa:bb",
		md5Text[:len(md5Text)-3], "ssh-ed25519 AAAA"} {
		if claim, err := ParseClaim(text); !errors.Is(err, ErrClaim) || claim.Is(key) {
			t.Errorf("%q: %v", text, err)
		}
	}
}

// FuzzParseClaim: whatever is read names itself again, and a claim that is about a key is about that key alone.
func FuzzParseClaim(f *testing.F) {
	key, _ := claimKeys(f)
	f.Add(Fingerprint(key))
	f.Add(ssh.FingerprintLegacyMD5(key))
	f.Add(Line(key, "x"))
	f.Fuzz(func(t *testing.T, text string) {
		claim, err := ParseClaim(text)
		if err != nil {
			return
		}
		again, err := ParseClaim(claim.String())
		if err != nil || again.String() != claim.String() {
			t.Errorf("%q is %q, and again %q: %v", text, claim, again, err)
		}
	})
}
