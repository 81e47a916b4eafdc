package standin

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"math/big"
	"time"
)

// lifetime is how long the practice host's certificates hold: longer than anybody practises.
const lifetime = 7 * 24 * time.Hour

// An authority has signed the interface's certificate, and nobody else's.
type authority struct {
	pem  []byte // its own certificate, for descriptions
	leaf tls.Certificate
}

func newAuthority(hostname string) (*authority, error) {
	rootKey, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	from := time.Now().Add(-time.Hour) // for clocks that are a little behind
	root := &x509.Certificate{
		SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Practice authority of " + hostname},
		NotBefore: from, NotAfter: from.Add(lifetime), IsCA: true, BasicConstraintsValid: true,
		KeyUsage: x509.KeyUsageCertSign,
	}
	rootDER, err := x509.CreateCertificate(rand.Reader, root, root, rootKey.Public(), rootKey)
	if err != nil {
		return nil, err
	}
	leafKey, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	leaf := &x509.Certificate{
		SerialNumber: big.NewInt(2), Subject: pkix.Name{CommonName: hostname}, DNSNames: []string{hostname},
		NotBefore: from, NotAfter: from.Add(lifetime),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
	}
	leafDER, err := x509.CreateCertificate(rand.Reader, leaf, root, leafKey.Public(), rootKey)
	if err != nil {
		return nil, err
	}
	return &authority{
		pem:  pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: rootDER}),
		leaf: tls.Certificate{Certificate: [][]byte{leafDER, rootDER}, PrivateKey: leafKey},
	}, nil
}
