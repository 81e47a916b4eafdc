package oauth

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"fmt"
	"net"
	"net/http"
	"time"

	"golang.org/x/oauth2"

	"anchorage.example/unicrux/core/fault"
	"anchorage.example/unicrux/core/untrusted"
)

// ErrNoBrowser is returned where the server offers no signing in by a browser on this computer.
var ErrNoBrowser = fault.New("sign-in-no-browser", fault.Refused, "the authorization server offers no signing in by a browser on this computer")

// browserPatience bounds the wait for a person in a browser.
const browserPatience = 10 * time.Minute

// ByBrowser signs in by a browser on this computer: open is given the address for it, and the answer comes to
// a server of ours on loopback ([8252], section 7.3) with proof that it is for this very run ([7636]). The error is
// [ErrNoBrowser] where the server does not offer that, [ErrDenied] where the person says no, [ErrExpired] where
// nobody decides in time.
func (s *Server) ByBrowser(ctx context.Context, scopes []string, open func(page string)) (*Grant, error) {
	if s.Authorize == "" || s.Token == "" {
		return nil, ErrNoBrowser
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	config := s.config(scopes)
	config.Endpoint.AuthURL, config.RedirectURL = s.Authorize, "http://"+listener.Addr().String()+"/"
	a := &arrival{state: rand.Text(), issuer: s.description.OAuth.Issuer, came: make(chan answer, 1)}
	server := &http.Server{Handler: a, ReadHeaderTimeout: 10 * time.Second}
	go func() { _ = server.Serve(listener) }() // it ends with Close
	defer server.Close()                       // nothing was written that could be lost

	verifier := oauth2.GenerateVerifier()
	options := []oauth2.AuthCodeOption{oauth2.S256ChallengeOption(verifier)}
	for name, value := range s.description.OAuth.Parameters {
		options = append(options, oauth2.SetAuthURLParam(name, value))
	}
	page := config.AuthCodeURL(a.state, options...)
	if !isPage(page) {
		return nil, fmt.Errorf("%w: its page has no https URL: %s", ErrMetadata, untrusted.Clean(s.Authorize))
	}
	open(page)
	waiting, stop := context.WithTimeout(ctx, browserPatience)
	defer stop()
	select {
	case <-waiting.Done():
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, ErrExpired
	case got := <-a.came:
		if got.err != nil {
			return nil, got.err
		}
		token, err := config.Exchange(s.with(ctx), got.code, oauth2.VerifierOption(verifier))
		if err != nil {
			return nil, wordsOf(ctx, err)
		}
		return grant(token, scopes)
	}
}

type answer struct {
	code string
	err  error
}

// An arrival takes the browser's answer: the first that is for this run.
type arrival struct {
	state, issuer string
	came          chan answer
}

func (a *arrival) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	query := r.URL.Query()
	if r.Method != http.MethodGet || r.URL.Path != "/" ||
		subtle.ConstantTimeCompare([]byte(query.Get("state")), []byte(a.state)) != 1 {
		http.NotFound(w, r) // anybody here may knock
		return
	}
	got := answer{code: query.Get("code")}
	switch failure, issuer := query.Get("error"), query.Get("iss"); {
	case issuer != "" && a.issuer != "" && issuer != a.issuer: // RFC 9207, section 2.4
		got.err = fmt.Errorf("%w: another server answers", ErrElsewhere)
	case failure == "access_denied":
		got.err = ErrDenied
	case failure != "":
		words := untrusted.Clean(failure + ": " + query.Get("error_description"))
		got.err = fmt.Errorf("%w: %s", ErrRefused, words[:min(len(words), 300)])
	case got.code == "":
		got.err = fmt.Errorf("%w: no code came", ErrMetadata)
	}
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	w.Header().Set("Cache-Control", "no-store")
	words := "You are signed in. Go back to the terminal.\n"
	if got.err != nil {
		words = "You are not signed in. The terminal says why.\n"
	}
	_, _ = w.Write([]byte(words))
	select {
	case a.came <- got:
	default: // the first counts
	}
}
