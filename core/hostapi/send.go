package hostapi

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"anchorage.example/unicrux/core/allow"
	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/waiting"
	"anchorage.example/unicrux/core/wire"
)

// How long the client waits when the host asks for it, and how often it goes again.
const (
	longestWait = time.Minute
	mostTries   = 4
	pause       = 300 * time.Millisecond // before a request that changes nothing is sent once more
)

// A request is one to be sent, perhaps several times.
type request struct {
	operation describe.Operation
	target    *url.URL
	body      []byte
	kind      string // of the body
}

// safe tells that sending it twice does no harm ([9110], section 9.2.1).
func (r request) safe() bool { return r.operation.Method == "" || r.operation.Method == http.MethodGet }

// send sends a request until it is answered, within limits.
func (c *Client) send(ctx context.Context, r request) (answer, error) {
	waited := time.Duration(0)
	for try := 1; ; try++ {
		a, err := c.once(ctx, r)
		if err != nil {
			if try == 1 && r.safe() && errors.Is(err, ErrUnreachable) && ctx.Err() == nil && sleep(ctx, pause) == nil {
				continue
			}
			return a, err
		}
		if c.wantsSecond(r, a) {
			if c.code, err = c.Second(); err != nil || c.code.Empty() {
				return a, err
			}
			continue
		}
		wait, asked := c.later(a)
		if !asked {
			return a, nil
		}
		waited += wait
		if try >= mostTries || waited > longestWait {
			return a, declined{fmt.Errorf("%w: in %s", ErrBusy, wait.Round(time.Second))}
		}
		if c.Waits != nil {
			c.Waits(wait)
		}
		if err := sleep(ctx, wait); err != nil {
			return a, err
		}
	}
}

func sleep(ctx context.Context, d time.Duration) error {
	timer := time.NewTimer(d)
	defer timer.Stop()
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-timer.C:
		return nil
	}
}

// later tells how long the host asks us to wait: by Retry-After, or by the header that its
// description names.
func (c *Client) later(a answer) (time.Duration, bool) {
	if a.status != http.StatusTooManyRequests && a.status != http.StatusServiceUnavailable &&
		a.status != http.StatusForbidden {
		return 0, false
	}
	text := a.headers.Get("Retry-After")
	if text == "" && c.Description.Interface.RetryAt != "" {
		text = a.headers.Get(c.Description.Interface.RetryAt)
		if at := asTime(text); !at.IsZero() {
			return max(time.Second, time.Until(at)), a.status != http.StatusForbidden || time.Until(at) > 0
		}
	}
	if seconds, err := strconv.Atoi(text); err == nil && seconds >= 0 && seconds < 1<<30 {
		return max(time.Second, time.Duration(seconds)*time.Second), true
	}
	if at := asTime(text); !at.IsZero() {
		return max(time.Second, time.Until(at)), true
	}
	return time.Second, a.status == http.StatusTooManyRequests
}

// once sends a request once, and once more to wherever on the same host it is sent on to.
func (c *Client) once(ctx context.Context, r request) (answer, error) {
	timeout := c.Timeout
	if timeout == 0 {
		timeout = 10 * time.Second
	}
	ctx, cancel := context.WithTimeout(ctx, timeout)
	defer cancel()
	target := r.target
	for hops := 0; ; hops++ {
		a, err := c.exchange(ctx, r, target)
		if err != nil || a.status < 300 || a.status >= 400 || !r.safe() {
			return a, err
		}
		next, err := target.Parse(a.headers.Get("Location"))
		if err != nil || hops == 3 || !c.inside(next) {
			return a, ErrRedirect
		}
		target = next
	}
}

// inside tells whether an address lies within the interface that the description names.
func (c *Client) inside(target *url.URL) bool {
	base, err := url.Parse(c.Description.Interface.URL)
	return err == nil && target.Scheme == base.Scheme && allow.SameHost(target.Host, base.Host) &&
		target.User == nil && strings.HasPrefix(target.Path, base.Path)
}

func (c *Client) exchange(ctx context.Context, r request, target *url.URL) (answer, error) {
	method := r.operation.Method
	if method == "" {
		method = http.MethodGet
	}
	var body io.Reader
	if r.body != nil {
		body = bytes.NewReader(r.body)
	}
	h, err := http.NewRequestWithContext(ctx, method, target.String(), body)
	if err != nil {
		return answer{}, fmt.Errorf("%w: no address comes of the description", ErrAnswer)
	}
	h.Header.Set("Accept", "application/json")
	h.Header.Set("User-Agent", "unicrux")
	if r.body != nil {
		h.Header.Set("Content-Type", r.kind)
	}
	// the description knows better
	for _, headers := range []map[string]string{c.Description.Interface.Headers, r.operation.Headers} {
		for name, text := range headers {
			if r.body != nil || !strings.EqualFold(name, "Content-Type") {
				h.Header.Set(name, text)
			}
		}
	}
	if err := c.signIn(ctx, r.operation, h); err != nil {
		return answer{}, err
	}
	if c.line == nil {
		c.line = NewHTTP(c.Description, c.Description.Interface.Address, c.Description.Interface.Authority)
	}
	return exchange(c.line, h.WithContext(waiting.As(ctx, c.Description.Name)), maxAnswer)
}

// Exchange sends a request and reads its answer within our limits.
func Exchange(line *http.Client, h *http.Request) (status int, text []byte, err error) {
	a, err := exchange(line, h, maxAnswer)
	return a.status, a.text, err
}

// exchange reads an answer of at most so many bytes.
func exchange(line *http.Client, h *http.Request, most int) (answer, error) {
	place := waiting.On(h.Context(), h.URL.Hostname())
	defer place.Over()
	place.At("API")
	response, err := line.Do(h)
	if err != nil {
		return answer{}, transportError(h.Context(), err)
	}
	defer response.Body.Close() // read to its end, or to our limit
	text, err := io.ReadAll(io.LimitReader(response.Body, int64(most)+1))
	switch {
	case err != nil && h.Context().Err() != nil:
		return answer{}, transportError(h.Context(), err)
	case err != nil:
		return answer{}, fmt.Errorf("%w: the answer was cut off", ErrUnreachable)
	case len(text) > most:
		return answer{}, fmt.Errorf("%w: more than %d bytes", ErrAnswer, most)
	}
	return answer{status: response.StatusCode, headers: response.Header, text: text}, nil
}

// signIn proves who asks, as the description says. The token goes to the interface, over TLS, if it
// was kept for that very place: the error is [origin.ErrElsewhere] otherwise.
func (c *Client) signIn(ctx context.Context, o describe.Operation, h *http.Request) error {
	i := c.Description.Interface
	token, err := c.Token.To(c.Description.APIPlace())
	switch {
	case o.Open:
		return nil
	case err != nil:
		return err
	case o.SignIn == "password":
		user, word, _ := strings.Cut(i.Password.Basic, ":")
		fill := func(name string) string {
			return map[string]string{"account": c.Account, "password": string(c.Password.Reveal())}[name]
		}
		h.SetBasicAuth(describe.Fill(user, fill), describe.Fill(word, fill))
		if name, text, found := strings.Cut(i.Password.Second, ": "); found && !c.code.Empty() {
			h.Header.Set(name, strings.ReplaceAll(text, "{code}", string(c.code.Reveal())))
		}
	case token.Empty():
		return nil
	case i.Header != "":
		name, text, _ := strings.Cut(i.Header, ": ")
		h.Header.Set(name, strings.ReplaceAll(text, "{token}", string(token.Reveal())))
	case i.Query != "":
		query := h.URL.Query()
		query.Set(i.Query, string(token.Reveal()))
		h.URL.RawQuery = query.Encode()
	case i.Basic != "":
		account := ""
		if strings.Contains(i.Basic, "{account}") {
			if account, err = c.account(ctx); err != nil {
				return err
			}
		}
		user, word, _ := strings.Cut(i.Basic, ":")
		fill := func(name string) string {
			return map[string]string{"account": account, "token": string(token.Reveal())}[name]
		}
		h.SetBasicAuth(describe.Fill(user, fill), describe.Fill(word, fill))
	}
	return nil
}

// wantsSecond tells whether the host wants a second step, and somebody can be asked for it.
func (c *Client) wantsSecond(r request, a answer) bool {
	p := c.Description.Interface.Password
	name, begin, _ := strings.Cut(p.Asks, ":")
	if p.Asks == "" { // it does not say so: it refuses
		return r.operation.SignIn == "password" && c.Second != nil && c.code.Empty() && p.Second != "" &&
			a.status == http.StatusUnauthorized
	}
	return r.operation.SignIn == "password" && c.Second != nil && c.code.Empty() && p.Second != "" &&
		(a.status == http.StatusUnauthorized || a.status == http.StatusForbidden) &&
		a.headers.Get(name) != "" && strings.HasPrefix(a.headers.Get(name), strings.TrimSpace(begin))
}

// NewHTTP builds the client for one host: the description's authority or the system's, the
// description's address or the name servers', at least TLS 1.2, no redirects.
func NewHTTP(d *describe.Description, address, authority string) *http.Client {
	transport := &http.Transport{
		TLSClientConfig:        &tls.Config{MinVersion: tls.VersionTLS12},
		MaxResponseHeaderBytes: 64 << 10,
		IdleConnTimeout:        10 * time.Second,
		Proxy:                  d.Proxy,
		DialContext: func(ctx context.Context, network, target string) (net.Conn, error) {
			if host, port, err := net.SplitHostPort(target); err == nil && address != "" && isOurs(d, host) {
				target = net.JoinHostPort(address, port)
			}
			return (&net.Dialer{}).DialContext(ctx, network, target)
		},
	}
	if authority != "" {
		pool := x509.NewCertPool()
		pool.AppendCertsFromPEM([]byte(authority))
		transport.TLSClientConfig.RootCAs = pool
	}
	return &http.Client{Transport: transport,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
}

// isOurs tells whether a name is one that the description names: a proxy's is not.
func isOurs(d *describe.Description, host string) bool {
	for _, address := range d.Addresses() {
		if target, err := url.Parse(address); err == nil && allow.SameHost(target.Hostname(), host) {
			return true
		}
	}
	return false
}

// Unreachable names the cause of a failure of the network's, without the address.
func Unreachable(ctx context.Context, err error) error { return transportError(ctx, err) }

// transportError names the cause without the request's address, which may hold more than
// is to be shown.
func transportError(ctx context.Context, err error) error {
	if errors.Is(ctx.Err(), context.Canceled) {
		return context.Canceled
	}
	var certificate *tls.CertificateVerificationError
	if errors.As(err, &certificate) {
		return fmt.Errorf("%w: %w", ErrAuthority, certificate.Err)
	}
	var request *url.Error
	if errors.As(err, &request) {
		err = request.Err
	}
	var dial *net.OpError
	switch reason := wire.DialReason(err); {
	case errors.Is(err, context.DeadlineExceeded):
		err = errors.New("no answer in time")
	case reason != nil && errors.As(err, &dial) && dial.Addr != nil:
		err = fmt.Errorf("%s: %w", dial.Addr, reason)
	case reason != nil:
		err = reason
	}
	return fmt.Errorf("%w: %w", ErrUnreachable, err)
}
