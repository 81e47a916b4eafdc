package hosts

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/yosida95/uritemplate/v3"

	"unicrux/core/secret"
)

// Limits for an interface's answers.
const (
	maxAnswer = 4 << 20 // one page of any list
	maxDetail = 500     // of the host's own words in a refusal
	maxItems  = 10_000
)

// The reasons why a request fails before the host could answer it, for errors.Is.
var (
	ErrNoOperation = errors.New("the description does not say how the host is told this")
	ErrUnreachable = errors.New("the host's interface cannot be reached")
	ErrAuthority   = errors.New("the certificate of the host's interface is not trusted")
	ErrAnswer      = errors.New("the host's interface answers something that its description does not expect")
	ErrRedirect    = errors.New("the host's interface sends us elsewhere, where no secret may go")
)

// A Refusal is the host's own "no".
type Refusal struct {
	Status int    // HTTP status
	Title  string // the host's words, uncleaned [9457]
	Detail string // more of them, uncleaned
	Means  string // the code that the description says these words mean; empty for none
}

func (r *Refusal) Error() string {
	words := strings.Trim(r.Title+": "+r.Detail, ": ")
	if words == "" {
		words = http.StatusText(r.Status)
	}
	return fmt.Sprintf("the host refuses (HTTP %d): %s", r.Status, words)
}

// Refused tells that the host did nothing. A fault of its own leaves that open.
func (r *Refusal) Refused() bool { return r.Status < http.StatusInternalServerError }

// A Client speaks to one host's interface.
type Client struct {
	Description *Description
	Token       secret.Text   // empty for what anybody may ask
	Timeout     time.Duration // for one request; 0 means 10 seconds
}

// values fills the templates of an operation.
type values map[string]string

// do carries out an operation and returns its results. The token goes to the address
// that the description names, over TLS, and nowhere else: redirects are not followed.
func (c *Client) do(ctx context.Context, name string, with values) ([]any, error) {
	operation, found := c.Description.Operations[name]
	if !found {
		return nil, fmt.Errorf("%s: %w", name, ErrNoOperation)
	}
	request, err := c.request(ctx, operation, with)
	if err != nil {
		return nil, err
	}
	response, err := c.http().Do(request)
	if err != nil {
		return nil, transportError(err)
	}
	defer response.Body.Close() //nolint:errcheck // read to its end, or to our limit
	text, err := io.ReadAll(io.LimitReader(response.Body, maxAnswer+1))
	switch {
	case err != nil:
		return nil, fmt.Errorf("%w: the answer was cut off", ErrUnreachable)
	case len(text) > maxAnswer:
		return nil, fmt.Errorf("%w: more than %d bytes", ErrAnswer, maxAnswer)
	case response.StatusCode >= 300 && response.StatusCode < 400:
		return nil, ErrRedirect
	case response.StatusCode >= 400:
		return nil, c.refusal(response.StatusCode, text)
	}
	return results(operation, text)
}

func (c *Client) request(ctx context.Context, operation Operation, with values) (*http.Request, error) {
	target, err := c.target(operation, with)
	if err != nil {
		return nil, err
	}
	var body io.Reader
	if len(operation.Body) > 0 {
		object := map[string]string{}
		for member, template := range operation.Body {
			if text := fill(template, with); text != "" {
				object[member] = text
			}
		}
		text, err := json.Marshal(object)
		if err != nil {
			return nil, err
		}
		body = bytes.NewReader(text)
	}
	request, err := http.NewRequestWithContext(ctx, operation.Method, target, body)
	if err != nil {
		return nil, fmt.Errorf("%w: no address comes of the description", ErrAnswer)
	}
	request.Header.Set("Accept", "application/json")
	request.Header.Set("User-Agent", "unicrux")
	if body != nil {
		request.Header.Set("Content-Type", "application/json")
	}
	if name, value, found := strings.Cut(c.Description.Interface.Header, ": "); found && !operation.Open && !c.Token.Empty() {
		request.Header.Set(name, strings.ReplaceAll(value, "{token}", string(c.Token.Reveal())))
	}
	return request, nil
}

// target expands the path [6570] and makes sure that it stays below the interface.
func (c *Client) target(operation Operation, with values) (string, error) {
	template, err := uritemplate.New(operation.Path)
	if err != nil {
		return "", err
	}
	variables := uritemplate.Values{}
	for name, value := range with {
		variables.Set(name, uritemplate.String(value))
	}
	path, err := template.Expand(variables)
	if err != nil {
		return "", err
	}
	base, err := url.Parse(c.Description.Interface.URL)
	if err != nil {
		return "", err
	}
	target, err := base.Parse(path)
	if err != nil || target.Host != base.Host || target.Scheme != base.Scheme || !strings.HasPrefix(target.Path, base.Path) {
		return "", fmt.Errorf("%w: the path leads out of the interface", ErrAnswer)
	}
	return target.String(), nil
}

func fill(template string, with values) string {
	for name, value := range with {
		template = strings.ReplaceAll(template, "{"+name+"}", value)
	}
	return template
}

// http builds the client for one request: the description's authority or the system's,
// the description's address or the name servers', no redirects, no environment.
func (c *Client) http() *http.Client {
	timeout := c.Timeout
	if timeout == 0 {
		timeout = 10 * time.Second
	}
	transport := &http.Transport{
		DisableKeepAlives:   true,
		TLSClientConfig:     &tls.Config{MinVersion: tls.VersionTLS12},
		TLSHandshakeTimeout: timeout,
		DialContext: func(ctx context.Context, network, target string) (net.Conn, error) {
			if address := c.Description.Interface.Address; address != "" {
				if _, port, err := net.SplitHostPort(target); err == nil {
					target = net.JoinHostPort(address, port)
				}
			}
			return (&net.Dialer{Timeout: timeout}).DialContext(ctx, network, target)
		},
	}
	if pem := c.Description.Interface.Authority; pem != "" {
		pool := x509.NewCertPool()
		pool.AppendCertsFromPEM([]byte(pem))
		transport.TLSClientConfig.RootCAs = pool
	}
	return &http.Client{Transport: transport, Timeout: timeout,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
}

// transportError names the cause without the request's address, which may hold more than
// is to be shown.
func transportError(err error) error {
	var certificate *tls.CertificateVerificationError
	if errors.As(err, &certificate) {
		return fmt.Errorf("%w: %w", ErrAuthority, certificate.Err)
	}
	var request *url.Error
	if errors.As(err, &request) {
		err = request.Err
	}
	return fmt.Errorf("%w: %w", ErrUnreachable, err)
}

func (c *Client) refusal(status int, text []byte) error {
	var problem struct{ Title, Detail string } // [9457]
	_ = json.Unmarshal(text, &problem)         // a refusal without a problem document is one all the same
	return &Refusal{Status: status, Means: c.Description.Meaning(problem.Title + "\n" + problem.Detail), Title: problem.Title[:min(len(problem.Title), maxDetail)],
		Detail: problem.Detail[:min(len(problem.Detail), maxDetail)]}
}

// results finds the results in an answer: a list, or the one thing that the path leads to.
func results(operation Operation, text []byte) ([]any, error) {
	if len(bytes.TrimSpace(text)) == 0 {
		return nil, nil
	}
	var answer any
	if err := json.Unmarshal(text, &answer); err != nil {
		return nil, fmt.Errorf("%w: not JSON", ErrAnswer)
	}
	if operation.Items == "" {
		return []any{answer}, nil
	}
	list, ok := follow(answer, operation.Items).([]any)
	if !ok {
		return nil, fmt.Errorf("%w: no list at %s", ErrAnswer, operation.Items)
	}
	return list[:min(len(list), maxItems)], nil
}
