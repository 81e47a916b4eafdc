package sshkey

import (
	"crypto/rand"
	"os"
	"path/filepath"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"
)

// TestJudge is what a host makes of a certificate.
func TestJudge(t *testing.T) {
	now := time.Unix(1_000_000, 0)
	for _, row := range []struct {
		name string
		form ssh.Certificate
		want Validity
	}{
		{"good", ssh.Certificate{CertType: ssh.UserCert, ValidPrincipals: []string{"lab", "ines"},
			ValidBefore: ssh.CertTimeInfinity}, Valid},
		{"from now", ssh.Certificate{CertType: ssh.UserCert, ValidPrincipals: []string{"ines"}, ValidAfter: 1_000_000,
			ValidBefore: 1_000_001}, Valid},
		{"until now", ssh.Certificate{CertType: ssh.UserCert, ValidPrincipals: []string{"ines"},
			ValidBefore: 1_000_000}, Ended},
		{"later", ssh.Certificate{CertType: ssh.UserCert, ValidPrincipals: []string{"ines"}, ValidAfter: 1_000_001,
			ValidBefore: ssh.CertTimeInfinity}, NotYet},
		{"another's", ssh.Certificate{CertType: ssh.UserCert, ValidPrincipals: []string{"lab"},
			ValidBefore: ssh.CertTimeInfinity}, ForOther},
		{"nobody's", ssh.Certificate{CertType: ssh.UserCert, ValidBefore: ssh.CertTimeInfinity}, ForOther},
		{"any host's", ssh.Certificate{CertType: ssh.HostCert, ValidBefore: ssh.CertTimeInfinity}, Valid},
		{"ended, and another's", ssh.Certificate{CertType: ssh.UserCert,
			ValidPrincipals: []string{"lab"}, ValidBefore: 1}, Ended},
	} {
		if got := Judge(&row.form, "ines", now); got != row.want {
			t.Errorf("%s: %s, want %s", row.name, got, row.want)
		}
	}
	if _, until := CertificateTimes(&ssh.Certificate{ValidBefore: ssh.CertTimeInfinity}); !until.IsZero() {
		t.Errorf("without an end: %v", until)
	}
}

// TestCertificateBeside is taken for the key alone that it is for.
func TestCertificateBeside(t *testing.T) {
	folder := t.TempDir()
	pair := func(name string) ssh.Signer {
		t.Helper()
		made, err := Make(Spec{Kind: ED25519})
		if err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(folder, name), made.Private, 0o600); err != nil {
			t.Fatal(err)
		}
		signer, err := ssh.ParsePrivateKey(made.Private)
		if err != nil {
			t.Fatal(err)
		}
		return signer
	}
	mine, other := pair("mine"), pair("other")
	for _, row := range []struct {
		name string
		form ssh.Certificate
		want bool
	}{
		{"its own", ssh.Certificate{Key: mine.PublicKey(), CertType: ssh.UserCert}, true},
		{"of another key", ssh.Certificate{Key: other.PublicKey(), CertType: ssh.UserCert}, false},
		{"a host's", ssh.Certificate{Key: mine.PublicKey(), CertType: ssh.HostCert}, false},
	} {
		if err := row.form.SignCert(rand.Reader, other); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(CertificateBeside(filepath.Join(folder, "mine")), ssh.MarshalAuthorizedKey(&row.form),
			0o600); err != nil {
			t.Fatal(err)
		}
		loaded, err := Load(filepath.Join(folder, "mine"))
		if err != nil || (loaded.Certificate != nil) != row.want {
			t.Errorf("%s: %+v, %v", row.name, loaded, err)
		}
		if pair != nil && row.want && (Fingerprint(loaded.Certificate) != Fingerprint(loaded.Public) ||
			Kind(loaded.Certificate) != "ed25519") {
			t.Errorf("%s: it is shown as another key", row.name)
		}
	}
}
