package hostapi

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"time"
)

// ErrNotHTTPS is returned for an address from which anybody on the way could send something
// else.
var ErrNotHTTPS = errors.New("a description comes over https only")

// Fetch gets a text that anybody may have, over https all the way: of at most so many bytes, and no web page. The error
// is [ErrNotHTTPS], a *[Refusal], or wraps [ErrPage], [ErrAnswer] or one of the network.
func Fetch(ctx context.Context, address string, most int, proxy func(*http.Request) (*url.URL, error)) ([]byte, error) {
	text, err := FetchPage(ctx, address, most, proxy)
	if err == nil && strings.HasPrefix(strings.TrimSpace(string(text)), "<") {
		return nil, ErrPage
	}
	return text, err
}

// FetchPage is [Fetch] for any text, a web page too.
func FetchPage(ctx context.Context, address string, most int,
	proxy func(*http.Request) (*url.URL, error)) ([]byte, error) {
	target, err := url.Parse(address)
	if err != nil || target.Scheme != "https" || target.Hostname() == "" || target.User != nil {
		return nil, ErrNotHTTPS
	}
	line := &http.Client{
		Transport: &http.Transport{TLSClientConfig: &tls.Config{MinVersion: tls.VersionTLS12}, Proxy: proxy,
			MaxResponseHeaderBytes: 64 << 10},
		CheckRedirect: func(next *http.Request, before []*http.Request) error {
			if next.URL.Scheme != "https" || len(before) > 4 {
				return ErrNotHTTPS
			}
			return nil
		},
	}
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	h, err := http.NewRequestWithContext(ctx, http.MethodGet, target.String(), nil)
	if err != nil {
		return nil, ErrNotHTTPS
	}
	a, err := exchange(line, h)
	switch {
	case errors.Is(err, ErrNotHTTPS):
		return nil, ErrNotHTTPS
	case err != nil:
		return nil, err
	case a.status != http.StatusOK:
		return nil, &Refusal{Status: a.status}
	case len(a.text) > most:
		return nil, fmt.Errorf("%w: larger than %d bytes", ErrAnswer, most)
	}
	return a.text, nil
}
