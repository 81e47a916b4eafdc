package wire

import (
	"context"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"net"
	"slices"
	"strings"
)

// ErrPinned is why a certificate is not trusted of which settings name the fingerprint.
var ErrPinned = errors.New("settings name another certificate")

// trust looks at the host's certificate as git's library would.
func (w *webWalker) trust(ctx context.Context, conn net.Conn) (net.Conn, error) {
	ctx, cancel := context.WithTimeout(ctx, w.web.Timeout)
	defer cancel()
	var judged error
	// judged below, so that the chain can be told
	config := &tls.Config{ServerName: w.web.Base.Hostname(), MinVersion: max(tls.VersionTLS12, w.web.Least),
		InsecureSkipVerify: true,
		VerifyConnection: func(state tls.ConnectionState) error {
			w.met.Chain = state.PeerCertificates
			judged = w.judge(state)
			return judged
		},
		GetClientCertificate: func(*tls.CertificateRequestInfo) (*tls.Certificate, error) {
			if w.asked = true; w.web.Own != nil {
				return w.web.Own, nil
			}
			return &tls.Certificate{}, nil
		}}
	secure := tls.Client(conn, config)
	err := secure.HandshakeContext(ctx)
	var record tls.RecordHeaderError
	switch {
	case err == nil:
		return secure, nil
	case judged != nil:
		return nil, w.fail(ErrTrust, judged.Error())
	case errors.As(err, &record):
		return nil, w.fail(ErrNotTLS, "")
	case w.asked && wantsOwn(err):
		return nil, w.fail(ErrOwn, err.Error())
	case strings.Contains(err.Error(), "protocol version"),
		strings.Contains(err.Error(), "handshake failure"): // the library has no type for them
		return nil, w.fail(ErrVersion, err.Error())
	case isTimeout(err):
		return nil, w.fail(ErrSilent, "")
	}
	return nil, w.fail(ErrHungUp, err.Error())
}

// wantsOwn tells whether a server ended the line for want of a certificate of ours, or because
// of the one that it got: over TLS 1.3 only after the handshake (RFC 8446, section 4.4.2.4).
func wantsOwn(err error) bool {
	for _, words := range []string{"certificate required", "bad certificate", "handshake failure",
		"unknown certificate authority", "certificate unknown", "expired certificate"} {
		if strings.Contains(err.Error(), "tls: "+words) { // the library has no type for them
			return true
		}
	}
	return false
}

func (w *webWalker) judge(state tls.ConnectionState) error {
	if w.web.Blind {
		return nil
	}
	if w.web.Pins != nil {
		w.judgement = pinned(w.web.Pins, state.PeerCertificates[0])
		return w.judgement
	}
	options := x509.VerifyOptions{DNSName: w.web.Base.Hostname(), Intermediates: x509.NewCertPool()}
	if w.web.Roots != nil {
		options.Roots = x509.NewCertPool()
		options.Roots.AppendCertsFromPEM(w.web.Roots)
	}
	if w.web.More != nil {
		if options.Roots == nil {
			// there is none: nothing of the system's is trusted
			if options.Roots, _ = x509.SystemCertPool(); options.Roots == nil {
				options.Roots = x509.NewCertPool()
			}
		}
		options.Roots.AppendCertsFromPEM(w.web.More)
	}
	for _, certificate := range state.PeerCertificates[1:] {
		options.Intermediates.AddCert(certificate)
	}
	_, err := state.PeerCertificates[0].Verify(options)
	if err == nil && w.web.KeyPins != nil {
		sum := sha256.Sum256(state.PeerCertificates[0].RawSubjectPublicKeyInfo)
		if !slices.Contains(w.web.KeyPins, base64.StdEncoding.EncodeToString(sum[:])) {
			err = ErrPinned
		}
	}
	w.judgement = err
	return err
}

// pinned compares a certificate with fingerprints that settings name: the kind of sum, and its
// hexadecimal digits with or without colons; without a kind it is SHA-1, as in old settings.
func pinned(pins []string, certificate *x509.Certificate) error {
	one, two, five := sha1.Sum(certificate.Raw), sha256.Sum256(certificate.Raw), sha512.Sum512(certificate.Raw)
	sums := map[string][]byte{"sha1": one[:], "sha256": two[:], "sha512": five[:]}
	for _, pin := range pins {
		kind, digits, found := strings.Cut(pin, ":")
		if _, known := sums[kind]; !found || !known {
			kind, digits = "sha1", pin
		}
		if strings.EqualFold(strings.ReplaceAll(digits, ":", ""), hex.EncodeToString(sums[kind])) {
			return nil
		}
	}
	return ErrPinned
}
