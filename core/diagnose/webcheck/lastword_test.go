package webcheck

import (
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"math/big"
	"net/url"
	"testing"

	"anchorage.example/unicrux/core/diagnose/localcheck"
	"anchorage.example/unicrux/core/gitlink"
)

// TestWeakness says of certificates why a client may refuse them.
func TestWeakness(t *testing.T) {
	t.Parallel()
	made := func(bits int, algorithm x509.SignatureAlgorithm, issuer string) *x509.Certificate {
		key, err := rsa.GenerateKey(rand.Reader, bits)
		if err != nil {
			t.Fatal(err)
		}
		return &x509.Certificate{PublicKey: key.Public(), SignatureAlgorithm: algorithm, SerialNumber: big.NewInt(1),
			Subject: pkix.Name{CommonName: "forge"}, Issuer: pkix.Name{CommonName: issuer}}
	}
	for name, row := range map[string]struct {
		certificate *x509.Certificate
		weak        bool
	}{
		"as usual":              {made(2048, x509.SHA256WithRSA, "authority"), false},
		"a short key":           {made(1024, x509.SHA256WithRSA, "authority"), true},
		"an old signature":      {made(2048, x509.SHA1WithRSA, "authority"), true},
		"a root vouches itself": {made(2048, x509.SHA1WithRSA, "forge"), false},
	} {
		if got := weakness(row.certificate); (got != "") != row.weak {
			t.Errorf("%s: %q", name, got)
		}
	}
}

// TestUserIsToken tells names that somebody chose from tokens.
func TestUserIsToken(t *testing.T) {
	t.Parallel()
	for user, token := range map[string]bool{"": false, "ines": false, "ines.marlow": false, "build-2026": false,
		"ci-runner-01": false, "build2026west": false, "tok-9f31c2": true, "x7Kq2m9PzR4t": true, "a1b2": false} {
		at := Travelled{Settled: Settled{Located: localcheck.Located{WebUser: user}}}
		if got := at.userIsToken(); got != token {
			t.Errorf("%q: %v", user, got)
		}
	}
}

// TestHeadersTwice: names count, however they are written.
func TestHeadersTwice(t *testing.T) {
	t.Parallel()
	for _, row := range []struct {
		headers []string
		twice   bool
	}{{nil, false}, {[]string{"A: 1", "B: 1"}, false}, {[]string{"A: 1", "B: 1", "a: 2"}, true}} {
		at := Travelled{Settled: Settled{Located: localcheck.Located{Base: &url.URL{}},
			Web: &gitlink.Web{Headers: row.headers}}}
		if at.headersTwice() != row.twice {
			t.Errorf("%q: %v", row.headers, !row.twice)
		}
	}
}
