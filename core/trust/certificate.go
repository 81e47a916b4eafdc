package trust

import (
	"crypto/sha256"
	"crypto/x509"
	"encoding/hex"
	"strings"
)

// CertificateSum is the SHA-256 fingerprint of a certificate, in small hexadecimal digits.
func CertificateSum(certificate *x509.Certificate) string {
	sum := sha256.Sum256(certificate.Raw)
	return hex.EncodeToString(sum[:])
}

// IsCertificate reports whether a text is the SHA-256 fingerprint of a certificate, in one of the forms in which
// browsers and TLS programs show it: with colons or blanks, in capitals, with the name of the sum before it.
func IsCertificate(text string, certificate *x509.Certificate) bool {
	given := strings.ToLower(strings.NewReplacer(":", "", " ", "").Replace(text))
	for _, before := range []string{"sha256fingerprint=", "sha256"} {
		given = strings.TrimPrefix(given, before)
	}
	return given == CertificateSum(certificate)
}
