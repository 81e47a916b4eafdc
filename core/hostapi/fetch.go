package hostapi

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"net"
	"net/http"
	"net/url"
	"strings"
	"time"

	"anchorage.example/unicrux/core/allow"
	"anchorage.example/unicrux/core/fault"
)

// ErrNotHTTPS is returned for an address from which anybody on the way could send something
// else.
var ErrNotHTTPS = fault.New("api-not-https", fault.Misused, "a description comes over https only")

// A Line is how an https address is reached: as the person's own configuration says. The zero value goes there
// directly, and trusts whom the system trusts.
type Line struct {
	Proxy     func(*http.Request) (*url.URL, error)
	Authority []byte // certificates (PEM) to trust in place of the system's; nil for those
	Address   string // an IP address to use in place of the host's name; empty asks the name servers
	Here      bool   // redirects are not followed: what another place says does not count
}

// Fetch gets a text that anybody may have, over https all the way: of at most so many bytes, and no web page. The error
// is [ErrNotHTTPS], a *[Refusal], or wraps [ErrPage], [ErrAnswer] or one of the network.
func Fetch(ctx context.Context, address string, most int, line Line) ([]byte, error) {
	text, err := FetchPage(ctx, address, most, line)
	if err == nil && strings.HasPrefix(strings.TrimSpace(string(text)), "<") {
		return nil, ErrPage
	}
	return text, err
}

// FetchPage is [Fetch] for any text, a web page too.
func FetchPage(ctx context.Context, address string, most int, how Line) ([]byte, error) {
	target, err := url.Parse(address)
	if err != nil || target.Scheme != "https" || target.Hostname() == "" || target.User != nil {
		return nil, ErrNotHTTPS
	}
	line := &http.Client{
		Transport: &http.Transport{TLSClientConfig: &tls.Config{MinVersion: tls.VersionTLS12}, Proxy: how.Proxy,
			MaxResponseHeaderBytes: 64 << 10, DialContext: insteadOf(target.Hostname(), how.Address)},
		CheckRedirect: func(next *http.Request, before []*http.Request) error {
			switch {
			case how.Here:
				return http.ErrUseLastResponse
			case next.URL.Scheme != "https" || len(before) > 4:
				return ErrNotHTTPS
			}
			return nil
		},
	}
	if how.Authority != nil {
		pool := x509.NewCertPool()
		pool.AppendCertsFromPEM(how.Authority)
		line.Transport.(*http.Transport).TLSClientConfig.RootCAs = pool
	}
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	h, err := http.NewRequestWithContext(ctx, http.MethodGet, target.String(), nil)
	if err != nil {
		return nil, ErrNotHTTPS
	}
	a, err := exchange(line, h, most)
	switch {
	case errors.Is(err, ErrNotHTTPS):
		return nil, ErrNotHTTPS
	case err != nil:
		return nil, err
	case a.status != http.StatusOK:
		return nil, &Refusal{Status: a.status}
	}
	return a.text, nil
}

// insteadOf connects to an address in place of a host's name; the name is what the certificate is for all the same.
func insteadOf(host, address string) func(ctx context.Context, network, target string) (net.Conn, error) {
	return func(ctx context.Context, network, target string) (net.Conn, error) {
		if name, port, err := net.SplitHostPort(target); err == nil && address != "" && allow.SameHost(name, host) {
			target = net.JoinHostPort(address, port)
		}
		return (&net.Dialer{}).DialContext(ctx, network, target)
	}
}
