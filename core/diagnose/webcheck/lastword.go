package webcheck

import (
	"context"
	"crypto/rsa"
	"crypto/x509"
	"errors"
	"slices"

	"anchorage.example/unicrux/core/causes"
	"anchorage.example/unicrux/core/diagnose/finding"
	"anchorage.example/unicrux/core/diagnose/seen"
	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/redact"
	"anchorage.example/unicrux/core/untrusted"
)

// leastRSA is from how many bits on every client accepts the RSA key of a certificate.
const leastRSA = 2048

// modelled are the settings of git's for HTTPS that are looked at here: what they do is known.
var modelled = []string{"http.proxy", "http.sslcainfo", "http.sslcapath", "http.cookiefile", "http.sslverify",
	"http.sslcert", "http.sslkey", "http.followredirects", "http.lowspeedlimit", "http.lowspeedtime",
	"http.useragent", "http.maxrequests", "http.minsessions", "http.savecookies", "http.curloptresolve"}

// lastWord lets git itself try a way that is open as far as it can be seen from here, where something on it may count
// for git and not for us: a weak certificate, a setting of git's that is not looked at, a version of TLS. It returns
// the crux that git meets, and nil where there is none or where nothing is unusual.
func (t Travelled) lastWord(ctx context.Context) *finding.Crux {
	unusual := t.unusual()
	if len(unusual) == 0 || t.Hg != nil || t.Question.Repo == "" || t.Request.Sent != nil {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, t.Request.For())
	defer cancel()
	sent := t.Sent.Credential
	if sent.Password.Empty() { // nobody asked for it; git may send it all the same (http.emptyAuth in git-config(1))
		sent = gitlink.Credential{User: t.WebUser, Password: t.WebSecret}
	}
	err := t.Config.ListRemote(ctx, t.asWritten().String(), sent)
	var refused *gitlink.ListError
	if !errors.As(err, &refused) {
		return nil // it works, or git could not be asked
	}
	if found := finding.Read(refused.Said, unusual...); found != nil {
		return found
	}
	return finding.New(causes.HostFailing, finding.Likely,
		append(unusual, finding.Saw(seen.GitSays, untrusted.Quote(untrusted.Clean(redact.Text(refused.Said))), ""))...)
}

// unusual is what may count for git on a way that is open for us.
func (t Travelled) unusual() []finding.Evidence {
	var list []finding.Evidence
	for _, certificate := range t.Trip.Chain {
		if why := weakness(certificate); why != "" {
			list = append(list, finding.Saw(seen.Certificate, certificateText(certificate)+", "+why, ""))
			break
		}
	}
	for _, set := range t.Config.For("http", t.asWritten().String()) {
		if !slices.Contains(modelled, set.Name) {
			list = append(list, finding.Saw(seen.Setting, untrusted.Clean(set.Name), t.Station.Tilde(set.Entry.Origin)))
		}
	}
	for _, name := range []string{"GIT_SSL_VERSION", "GIT_SSL_CIPHER_LIST", "GIT_PROXY_SSL_CAINFO"} {
		if t.Station.Getenv(name) != "" {
			list = append(list, finding.Saw(seen.Setting, name, "environment"))
		}
	}
	return list
}

// weakness says why a client may refuse a certificate whose signature holds; empty for no reason.
func weakness(certificate *x509.Certificate) string {
	if key, is := certificate.PublicKey.(*rsa.PublicKey); is && key.N.BitLen() < leastRSA {
		return "with a short RSA key"
	}
	return weakSignature([]*x509.Certificate{certificate})
}

// weakSignature says that one of some certificates is signed by an algorithm that no client accepts any longer; a root
// vouches for itself, so its own does not matter. It is empty where none is.
func weakSignature(chain []*x509.Certificate) string {
	for _, certificate := range chain {
		switch certificate.SignatureAlgorithm {
		case x509.MD5WithRSA, x509.SHA1WithRSA, x509.ECDSAWithSHA1:
			if certificate.Issuer.String() != certificate.Subject.String() {
				return "signed by " + certificate.SignatureAlgorithm.String() + ", which no longer counts"
			}
		}
	}
	return ""
}
