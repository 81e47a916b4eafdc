package diagnose

import (
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/untrusted"
	"anchorage.example/unicrux/core/wire"
)

// certificateRefused names what is wrong with a certificate that was offered and refused; nil where none was.
// The host does not say why: of a certificate that holds for the user who signs in, it does not accept who signed it.
func (c *checker) certificateRefused(trip *wire.Trip, evidence []Evidence) *Crux {
	for _, key := range c.offered()[:len(trip.Offered)] {
		certificate := key.Certificate()
		if certificate == nil {
			continue
		}
		code, told := c.wrongWith(certificate, userCertificate)
		return crux(code, Likely, append([]Evidence{told, {"signed by", authorityText(certificate), ""}}, evidence...)...)
	}
	return nil
}

// hostCertificate names what is wrong with the certificate of a host whose authority is trusted; nil where it is
// not that.
func (c *checker) hostCertificate(trip *wire.Trip, offered Evidence) *Crux {
	if trip.HostCertificate == nil {
		return nil
	}
	authority := c.passage.Known.Authority(trip.HostCertificate)
	if authority == nil {
		return nil
	}
	code, told := c.wrongWith(trip.HostCertificate, hostsCertificate)
	if code == "" {
		return nil
	}
	return crux(code, Proved, told, Evidence{"signed by", authorityText(trip.HostCertificate), c.station.Tilde(authority.Origin())}, offered, c.firstContact())
}

// certificateCodes are the causes for each thing that may be wrong with a certificate.
type certificateCodes struct {
	ended, notYet, other, rest Code
}

var (
	userCertificate  = certificateCodes{"certificate-ended", "certificate-not-yet", "certificate-other-user", "certificate-authority-unknown"}
	hostsCertificate = certificateCodes{"host-certificate-ended", "host-certificate-not-yet", "host-certificate-other-name", ""}
)

// wrongWith tells what is wrong with a certificate, and how one sees it.
func (c *checker) wrongWith(certificate *ssh.Certificate, codes certificateCodes) (Code, Evidence) {
	name := c.passage.Client.User
	if certificate.CertType == ssh.HostCert {
		name = c.passage.Client.HostName
	}
	from, until := sshkey.CertificateTimes(certificate)
	switch sshkey.Judge(certificate, name, c.station.Now()) {
	case sshkey.NotYet:
		return codes.notYet, Evidence{"valid from", from.Format(time.DateTime), "the certificate"}
	case sshkey.Ended:
		return codes.ended, Evidence{"valid until", until.Format(time.DateTime), "the certificate"}
	case sshkey.ForOther:
		names := untrusted.Clean(strings.Join(certificate.ValidPrincipals, ", "))
		if names == "" {
			names = "nobody: it names no user"
		}
		return codes.other, Evidence{"valid for", names, "the certificate"}
	}
	return codes.rest, Evidence{"valid for", untrusted.Clean(name), "the certificate"}
}

// authorityText is who signed a certificate, and as what.
func authorityText(certificate *ssh.Certificate) string {
	text := sshkey.Kind(certificate.SignatureKey) + " " + sshkey.Fingerprint(certificate.SignatureKey)
	if certificate.KeyId != "" {
		text += ", as " + untrusted.Quote(untrusted.Clean(certificate.KeyId))
	}
	return text
}
