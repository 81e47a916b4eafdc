package sshkey

import (
	"bytes"
	"errors"
	"slices"
	"time"

	"golang.org/x/crypto/ssh"
)

// ErrNotCertificate is returned for a file that holds no certificate that a person could sign in with.
var ErrNotCertificate = errors.New("not a certificate for signing in")

// CertificateBeside is the file in which ssh looks for the certificate of a private file ("CertificateFile" in
// ssh_config(5)).
func CertificateBeside(path string) string { return path + "-cert.pub" }

// LoadCertificate reads a certificate by which a person signs in (PROTOCOL.certkeys of the OpenSSH sources). The
// error is [ErrNotCertificate] for any other content, or that of reading the file.
func LoadCertificate(path string) (*ssh.Certificate, error) {
	text, _, err := readFile(path)
	if err != nil {
		return nil, err
	}
	key, _, err := ParseLine(text)
	certificate, ok := key.(*ssh.Certificate)
	if err != nil || !ok || certificate.CertType != ssh.UserCert {
		return nil, ErrNotCertificate
	}
	return certificate, nil
}

// Plain is the key itself, where a certificate is around it.
func Plain(key ssh.PublicKey) ssh.PublicKey {
	if certificate, ok := key.(*ssh.Certificate); ok {
		return certificate.Key
	}
	return key
}

// A Validity says whether a certificate can serve.
type Validity string

// The validities, in the order in which they are looked at.
const (
	Valid    Validity = "valid"
	NotYet   Validity = "not yet"
	Ended    Validity = "ended"
	ForOther Validity = "for another name"
)

// Judge tells whether a certificate serves somebody at a time: a user of its own list, or a host. One without a
// list serves no user, and every host (cert_user_principal and sshkey_cert_check_authority of the OpenSSH sources).
func Judge(certificate *ssh.Certificate, name string, now time.Time) Validity {
	at := uint64(max(now.Unix(), 0))
	switch names := certificate.ValidPrincipals; {
	case at < certificate.ValidAfter:
		return NotYet
	case certificate.ValidBefore != ssh.CertTimeInfinity && at >= certificate.ValidBefore:
		return Ended
	case len(names) == 0 && certificate.CertType == ssh.UserCert, len(names) > 0 && !slices.Contains(names, name):
		return ForOther
	}
	return Valid
}

// CertificateTimes are from when and until when a certificate is good. The second is the zero time for one without
// an end.
func CertificateTimes(certificate *ssh.Certificate) (from, until time.Time) {
	from = time.Unix(int64(min(certificate.ValidAfter, 1<<62)), 0)
	if certificate.ValidBefore != ssh.CertTimeInfinity {
		until = time.Unix(int64(min(certificate.ValidBefore, 1<<62)), 0)
	}
	return from, until
}

// readCertificate takes the certificate from beside the private file, if it is for this key.
func (p *Pair) readCertificate() {
	certificate, err := LoadCertificate(CertificateBeside(p.Path))
	if err == nil && p.Public != nil && bytes.Equal(certificate.Key.Marshal(), p.Public.Marshal()) {
		p.Certificate = certificate
	}
}
