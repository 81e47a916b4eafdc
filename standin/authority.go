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

	root    *x509.Certificate
	rootDER []byte
	rootKey *ecdsa.PrivateKey
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
	signed := &authority{pem: pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: rootDER}), root: root,
		rootDER: rootDER, rootKey: rootKey}
	signed.leaf, err = signed.sign(hostname, from, from.Add(lifetime))
	return signed, err
}

// sign makes a certificate for a name.
func (a *authority) sign(name string, from, until time.Time) (tls.Certificate, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return tls.Certificate{}, err
	}
	leaf := &x509.Certificate{
		SerialNumber: big.NewInt(2), Subject: pkix.Name{CommonName: name}, DNSNames: []string{name}, NotBefore: from,
		NotAfter: until,
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
	}
	der, err := x509.CreateCertificate(rand.Reader, leaf, a.root, key.Public(), a.rootKey)
	return tls.Certificate{Certificate: [][]byte{der, a.rootDER}, PrivateKey: key}, err
}
