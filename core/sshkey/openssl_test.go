package sshkey

import (
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"anchorage.example/unicrux/agreement"
	"anchorage.example/unicrux/core/secret"
)

// openssl changes the form of a key of ours.
func openssl(t *testing.T, args ...string) {
	t.Helper()
	path, err := exec.LookPath("openssl")
	if err != nil {
		t.Fatal("openssl is needed for this test")
	}
	if out, err := exec.Command(path, args...).CombinedOutput(); err != nil {
		t.Fatalf("openssl %s: %v: %s", strings.Join(args, " "), err, out)
	}
}

// TestLocksOfOpenSSLAgree opens what OpenSSL locks in PKCS#8, and lets it open ours.
func TestLocksOfOpenSSLAgree(t *testing.T) {
	t.Parallel()
	tally := agreement.Of(t, "openssl: private keys in PKCS#8")
	folder := t.TempDir()
	at := func(name string) string { return filepath.Join(folder, name) }
	for _, kind := range []string{ECDSA, ED25519} {
		made, err := Make(Spec{Kind: kind})
		if err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(at("plain"), made.Private, 0o600); err != nil {
			t.Fatal(err)
		}
		private, err := (&Pair{Path: at("plain"), Public: made.Key}).Raw(secret.Text{})
		if err != nil {
			t.Fatal(err)
		}
		words := secret.New([]byte("ebb and flow"))
		for name, passphrase := range map[string]secret.Text{"ours": {}, "locked": words} {
			text, err := Write(private, "", PKCS8, passphrase)
			if err != nil {
				t.Fatal(err)
			}
			if err := os.WriteFile(at(name), text, 0o600); err != nil {
				t.Fatal(err)
			}
		}
		out, err := exec.Command("openssl", "pkey", "-in", at("locked"), "-passin", "pass:ebb and flow", "-noout",
			"-text").CombinedOutput()
		tally.Case(err == nil, "%s: openssl does not open ours: %s", kind, out)
		locks := [][]string{{"-scrypt"}, {"-v1", "PBE-SHA1-3DES"}}
		for _, cipher := range []string{"aes-128-cbc", "aes-192-cbc", "aes-256-cbc", "des3"} {
			for _, hash := range []string{"hmacWithSHA1", "hmacWithSHA224", "hmacWithSHA256", "hmacWithSHA384",
				"hmacWithSHA512"} {
				locks = append(locks, []string{"-v2", cipher, "-v2prf", hash})
			}
		}
		for _, lock := range locks {
			openssl(t, append([]string{"pkcs8", "-topk8", "-in", at("ours"), "-out", at("theirs"), "-passout",
				"pass:ebb and flow"}, lock...)...)
			pair, err := Load(at("theirs"))
			if err != nil || !pair.Locked {
				t.Fatalf("%s %v: %+v, %v", kind, lock, pair, err)
			}
			signer, err := pair.Signer(words)
			if lock[0] == "-v1" {
				tally.Case(errors.Is(err, ErrLockKind), "%s %v: %v", kind, lock, err)
				continue
			}
			tally.Case(err == nil && Fingerprint(signer.PublicKey()) == Fingerprint(made.Key), "%s %v: %v",
				kind, lock, err)
			_, err = pair.Signer(secret.New([]byte("ebb")))
			tally.Case(errors.Is(err, ErrPassphrase), "%s %v, another passphrase: %v", kind, lock, err)
		}
	}
}
