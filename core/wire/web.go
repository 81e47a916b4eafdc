package wire

import (
	"bufio"
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"io"
	"mime"
	"net"
	"net/http"
	"net/url"
	"regexp"
	"strconv"
	"strings"
	"time"

	"anchorage.example/unicrux/core/lazyregexp"
	"anchorage.example/unicrux/core/origin"
	"anchorage.example/unicrux/core/untrusted"
	"anchorage.example/unicrux/core/waiting"
)

// The further reasons of a [Failure] of [GoWeb], to be tested with errors.Is.
var (
	ErrNotTLS  = errors.New("something else than TLS answers")
	ErrVersion = errors.New("no version of TLS in common")
	ErrStatus  = errors.New("the host did not open the repository") // the answer says more
	ErrOwn     = errors.New("the host wants a certificate from this workstation")
)

// tags are the marks of a page.
const tags = `(?s)<(script|style).*?</(script|style)>|<[^>]*>`

// A WebPlan says which way to go over HTTPS.
type WebPlan struct {
	Base    *url.URL // of the repository, without any secret
	Service string   // "git-upload-pack" or "git-receive-pack"; empty to go as far as the host's certificate
	Hg      bool     // Mercurial's greeting is asked for, in place of git's services
	Instead string   // a service to try where Service is refused to somebody who is signed in
	Proxy   *url.URL // nil to connect directly
	At      string   // an IP address to connect to in place of the name; empty asks the name servers
	Roots   []byte   // certificates (PEM) to trust in place of the system's; nil for the system's
	More    []byte   // certificates (PEM) to trust beside those; nil for no others
	// the fingerprints of the certificates that alone are trusted: "sha256:" and hexadecimal digits; nil for any
	Pins    []string
	KeyPins []string         // SHA-256 of the public keys that alone are taken, in base64; nil for any
	Least   uint16           // the oldest version of TLS to speak, where it is newer than 1.2
	Blind   bool             // the certificate is not looked at, as settings say
	Own     *tls.Certificate // to show where the host wants one; nil for none
	Headers []string         // "Name: value", that go with every request

	// Credential is asked for when the host wants to know who asks, and again after each refusal until it
	// has no other: refused counts them. The secret goes to the origin of Base if it was kept for that.
	Credential func(refused int) (user string, password origin.Bound, err error)
	Timeout    time.Duration // for each step; 0 means 10 seconds
}

// A WebTrip is what was met over HTTPS. It is filled as far as the way went.
type WebTrip struct {
	Connected string
	Silent    string              // as in [Trip]
	Chain     []*x509.Certificate // as the host showed it, its own first
	Wanted    bool                // the host wanted to know who asks
	Realm     string              // what for, uncleaned
	Schemes   []string            // the ways to tell it that the host takes, in lower case (RFC 9110, section 11.3)
	Date      time.Time           // what the host says the time is; zero for nothing
	User      string              // who was told; empty for nobody
	Judgement error               // why the certificate is not trusted, as crypto/x509 says it
	NoSecret  error               // why nobody could be told
	Answer    WebAnswer           // of Service
	Instead   WebAnswer           // of WebPlan.Instead, if it was tried
	Times     [AtService + 1]time.Duration
}

// A WebAnswer is what the host said.
type WebAnswer struct {
	Status  int               // HTTP status; 0 for none
	Open    bool              // an advertisement came
	Files   bool              // the server runs nothing of git's, and hands out a list of refs as a file
	Listed  bool              // the service is refused behind its advertisement, which came
	Refs    int               // refs in it
	Heads   map[string]string // object names of its branches, by their full names
	Kind    string            // media type
	Hg      bool              // Mercurial answers
	Message string            // what came in place of an advertisement, uncleaned
	Later   string            // when the host wants to be asked again (Retry-After)
	Moved   string            // where the host sends us (Location), uncleaned
}

// GoWeb goes the way over HTTPS, on one connection, as git does: first without telling who asks
// (gitprotocol-http(5)). The trip is never nil; the error is a *[Failure], or ctx's.
func GoWeb(ctx context.Context, plan WebPlan) (*WebTrip, error) {
	if plan.Timeout == 0 {
		plan.Timeout = 10 * time.Second
	}
	port := 443
	if plan.Base.Scheme == "http" {
		port = 80
	}
	if text := plan.Base.Port(); text != "" {
		port = portOf(text)
	}
	host := plan.Base.Hostname()
	if plan.At != "" {
		host = plan.At
	}
	w := &webWalker{walker: walker{plan: Plan{Host: host, Port: port, Timeout: plan.Timeout}, trip: &Trip{With: -1},
		mark: time.Now(), shown: waiting.On(ctx, host)}, web: plan, met: &WebTrip{}}
	defer w.shown.Over()
	err := w.walk(ctx)
	w.met.Connected, w.met.Silent, w.met.Times, w.met.Judgement = w.trip.Connected, w.trip.Silent,
		w.trip.Times, w.judgement
	if ctx.Err() != nil {
		err = ctx.Err()
	}
	return w.met, err
}

func portOf(text string) int {
	n := 0
	for _, digit := range text {
		n = n*10 + int(digit-'0')
	}
	return n
}

type webWalker struct {
	walker
	web       WebPlan
	met       *WebTrip
	line      *http.Client
	user      string // who was told
	word      origin.Bound
	refused   int   // how many secrets were shown, of which the last may be taken
	judgement error // of the certificate
	asked     bool  // the host asked for a certificate of ours
}

func (w *webWalker) walk(ctx context.Context) error {
	conn, err := w.reach(ctx)
	if err != nil {
		return err
	}
	defer conn.Close() // nothing was written that could be lost
	stop := context.AfterFunc(ctx, func() { _ = conn.Close() })
	defer stop()
	w.pass(AtTrust)
	secure := conn
	if w.web.Base.Scheme != "http" {
		if secure, err = w.trust(ctx, conn); err != nil {
			return err
		}
	}
	w.pass(AtSignIn)
	if w.web.Service == "" {
		return nil
	}
	w.line = &http.Client{Timeout: w.web.Timeout,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	transport := &http.Transport{MaxResponseHeaderBytes: 64 << 10, MaxConnsPerHost: 1}
	dial := w.dials(secure)
	transport.DialContext, transport.DialTLSContext = dial, dial
	w.line.Transport = transport
	defer transport.CloseIdleConnections()
	return w.ask(ctx)
}

// dials hands the connection out that is there, and makes others where the host ends it behind an
// answer, as hosts may (RFC 9112, section 9.6).
func (w *webWalker) dials(first net.Conn) func(context.Context, string, string) (net.Conn, error) {
	return func(ctx context.Context, _, _ string) (net.Conn, error) {
		if conn := first; conn != nil {
			first = nil
			return conn, nil
		}
		conn, err := w.reach(ctx)
		if err != nil || w.web.Base.Scheme == "http" {
			return conn, err
		}
		return w.trust(ctx, conn)
	}
}

// reach opens the connection, through the proxy where there is one.
func (w *webWalker) reach(ctx context.Context) (net.Conn, error) {
	if w.web.Proxy == nil {
		return w.connect(ctx)
	}
	w.pass(AtConnect)
	target := net.JoinHostPort(w.web.Base.Hostname(), strconv.Itoa(w.plan.Port))
	conn, err := Tunnel(ctx, w.web.Proxy, target, w.web.Timeout)
	switch {
	case errors.Is(err, ErrProxyRefuses), errors.Is(err, ErrProxySignIn):
		return nil, w.fail(pick(err, ErrProxyRefuses, ErrProxySignIn), err.Error())
	case err != nil:
		return nil, w.fail(ErrNoProxy, err.Error())
	}
	w.trip.Connected = w.web.Proxy.Host
	return conn, nil
}

// Said is what the host said, as one line: of a web page, its words.
func (a *WebAnswer) Said() string {
	text := a.Message
	if a.Kind == "text/html" || strings.HasPrefix(strings.TrimSpace(text), "<") {
		text = regexp.MustCompile(tags).ReplaceAllString(text, " ")
	}
	return untrusted.Clean(text)
}

func (a *WebAnswer) read(response *http.Response, service string) {
	*a = WebAnswer{Status: response.StatusCode, Later: response.Header.Get("Retry-After"),
		Moved: response.Header.Get("Location")}
	a.Kind, _, _ = mime.ParseMediaType(response.Header.Get("Content-Type"))
	body := bufio.NewReader(io.LimitReader(response.Body, maxAdvertisement))
	if a.Status == http.StatusOK && strings.HasPrefix(a.Kind, "application/mercurial-") {
		a.Hg = true
	}
	if a.Status == http.StatusOK && a.Kind == "application/x-"+service+"-advertisement" {
		if _, err := readAdvertisement(body); err == nil { // the name of the service
			if ad, err := readAdvertisement(body); err == nil {
				a.Open, a.Refs, a.Heads = true, ad.refs, ad.heads
			} else {
				a.Message = clip(ad.words)
			}
		}
	} else if files := service == "git-upload-pack" && a.Status == http.StatusOK && a.readFiles(body); !files {
		text, _ := io.ReadAll(io.LimitReader(body, maxWords))
		a.Message = clip(string(bytes.TrimSpace(text)))
	}
	_, _ = io.Copy(io.Discard, body) // so that the connection can be used again
}

// readFiles reads the refs that a server lists which only hands files out ("Dumb Clients" in gitprotocol-http(5)): a
// line for each, its object's name and its own with a tab between them. It takes nothing where the first is none.
func (a *WebAnswer) readFiles(body *bufio.Reader) bool {
	first, _ := body.Peek(maxRefName)
	if line, _, _ := strings.Cut(string(first), "\n"); !fileRef().MatchString(line) {
		return false
	}
	for a.Refs < maxHeads {
		line, err := body.ReadString('\n')
		if fileRef().MatchString(strings.TrimSuffix(line, "\n")) {
			a.Refs++
		}
		if err != nil {
			break
		}
	}
	a.Open, a.Files = true, true
	return true
}

// maxRefName is how much is looked at to recognise the first ref of a list.
const maxRefName = 1 << 10

var fileRef = lazyregexp.Late(`^[0-9a-f]{40}([0-9a-f]{24})?\trefs/\S+$`)
