package trust

import (
	"crypto/x509"
	"strings"
	"testing"
)

func TestIsCertificate(t *testing.T) {
	certificate := &x509.Certificate{Raw: []byte("a certificate of the harbour")}
	sum := CertificateSum(certificate)
	var pairs []string
	for i := 0; i < len(sum); i += 2 {
		pairs = append(pairs, strings.ToUpper(sum[i:i+2]))
	}
	for text, want := range map[string]bool{
		sum:                      true,
		strings.Join(pairs, ":"): true,
		strings.Join(pairs, " "): true,
		"sha256 Fingerprint=" + strings.Join(pairs, ":"): true,
		"SHA256:" + sum: true,
		sum[:62]:        false,
		sum + "00":      false,
		"yes":           false,
		"":              false,
	} {
		if got := IsCertificate(text, certificate); got != want {
			t.Errorf("%q: %v", text, got)
		}
	}
}
