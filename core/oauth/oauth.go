// Package oauth signs in at a host's authorization server, as a public client without a secret
// of its own, and looks after the tokens that it gets.
//
// [Discover] finds the server, [Server.Begin] begins signing in on another screen, and
// [Server.Wait] waits until somebody has decided; [Server.ByBrowser] signs in by a browser here. Standards:
//
//	[6749] RFC 6749: the framework; refreshing
//	[7009] RFC 7009: revocation
//	[7662] RFC 7662: introspection
//	[8414] RFC 8414: authorization server metadata
//	[8628] RFC 8628: device authorization
//	[7636] RFC 7636: proof key for code exchange
//	[8252] RFC 8252: native apps
package oauth

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/oauth2"

	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/fault"
	"anchorage.example/unicrux/core/hostapi"
	"anchorage.example/unicrux/core/origin"
	"anchorage.example/unicrux/core/secret"
	"anchorage.example/unicrux/core/untrusted"
)

// Reasons for which signing in comes to nothing, whichever of its steps fails, for errors.Is.
var (
	ErrNone      = fault.New("sign-in-not-offered", fault.Refused, "the host's description names no authorization server")
	ErrMetadata  = fault.New("sign-in-metadata", fault.Refused, "the authorization server does not say how it is spoken to")
	ErrElsewhere = fault.New("sign-in-elsewhere", fault.Refused, "the authorization server sends us to an address that the description does not name")
	ErrNoDevice  = fault.New("sign-in-no-device", fault.Refused, "the authorization server offers no signing in on another screen")
	ErrDenied    = fault.New("sign-in-denied", fault.Refused, "the signing in was denied in the browser")
	ErrExpired   = fault.New("sign-in-expired", fault.Refused, "nobody confirmed the code in time")
	ErrEnded     = fault.New("sign-in-ended", fault.Refused, "the authorization server no longer renews this sign-in")
	ErrRefused   = fault.New("sign-in-refused", fault.Refused, "the authorization server refuses")
	ErrCannot    = errors.New("the authorization server does not offer this")
)

// A Server is an authorization server, with the addresses of what it offers; empty for what it
// does not offer.
type Server struct {
	Device, Authorize, Token, Revoke, Introspect string

	description *describe.Description
	line        *http.Client
}

// Discover finds out what the authorization server of a host offers: from its description, or
// by the metadata that the server publishes [8414].
func Discover(ctx context.Context, d *describe.Description) (*Server, error) {
	o := d.OAuth
	if o.Client == "" {
		return nil, ErrNone
	}
	address, authority := d.OAuthWay()
	s := &Server{Device: o.Device, Authorize: o.Authorize, Token: o.Token, Revoke: o.Revoke, Introspect: o.Introspect,
		description: d, line: hostapi.NewHTTP(d, address, authority)}
	s.line.Timeout = 10 * time.Second
	if o.Issuer == "" {
		return s, nil
	}
	if err := s.readMetadata(ctx); err != nil {
		return nil, err
	}
	for _, endpoint := range []string{s.Device, s.Authorize, s.Token, s.Revoke, s.Introspect} {
		if endpoint != "" && !s.named(endpoint) {
			return nil, fmt.Errorf("%w: %s", ErrElsewhere, untrusted.Clean(endpoint))
		}
	}
	return s, nil
}

// named tells whether the description names the origin of an address.
func (s *Server) named(address string) bool {
	target, err := url.Parse(address)
	return err == nil && target.Scheme == "https" && target.User == nil &&
		slices.Contains(s.description.Addresses(), "https://"+target.Host)
}

// metadataAddresses are where an issuer's metadata may be ([8414], sections 3 and 5).
func metadataAddresses(issuer string) []string {
	target, err := url.Parse(issuer)
	if err != nil {
		return nil
	}
	path := strings.TrimSuffix(target.Path, "/")
	at := func(path string) string {
		other := *target
		other.Path = path
		return other.String()
	}
	return []string{at("/.well-known/oauth-authorization-server" + path),
		at("/.well-known/openid-configuration" + path), at(path + "/.well-known/openid-configuration")}
}

func (s *Server) readMetadata(ctx context.Context) error {
	issuer := s.description.OAuth.Issuer
	var last error
	for _, address := range metadataAddresses(issuer) {
		h, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
		if err != nil {
			return fmt.Errorf("%w: %s is no address", ErrMetadata, issuer)
		}
		h.Header.Set("Accept", "application/json")
		status, text, err := hostapi.Exchange(s.line, h)
		if err != nil {
			return err
		}
		var found struct {
			Issuer     string `json:"issuer"`
			Device     string `json:"device_authorization_endpoint"`
			Token      string `json:"token_endpoint"`
			Revoke     string `json:"revocation_endpoint"`
			Introspect string `json:"introspection_endpoint"`
			Authorize  string `json:"authorization_endpoint"`
		}
		if status != http.StatusOK || json.Unmarshal(text, &found) != nil {
			last = fmt.Errorf("%w: nothing is at %s", ErrMetadata, address)
			continue
		}
		if strings.TrimSuffix(found.Issuer, "/") != strings.TrimSuffix(issuer, "/") { // [8414], section 3.3
			return fmt.Errorf("%w: it calls itself %s", ErrMetadata, untrusted.Clean(found.Issuer))
		}
		for _, pair := range []struct {
			to   *string
			from string
		}{{&s.Device, found.Device}, {&s.Authorize, found.Authorize}, {&s.Token, found.Token},
			{&s.Revoke, found.Revoke}, {&s.Introspect, found.Introspect}} {
			if *pair.to == "" { // what the description says itself stays
				*pair.to = pair.from
			}
		}
		return nil
	}
	return last
}

func (s *Server) config(scopes []string) *oauth2.Config {
	return &oauth2.Config{ClientID: s.description.OAuth.Client, Scopes: scopes,
		Endpoint: oauth2.Endpoint{DeviceAuthURL: s.Device, TokenURL: s.Token, AuthStyle: oauth2.AuthStyleInParams}}
}

func (s *Server) with(ctx context.Context) context.Context {
	return context.WithValue(ctx, oauth2.HTTPClient, s.line)
}

// A Prompt is what a person enters where.
type Prompt struct {
	Code    string // to be entered; uncleaned
	Page    string // where; uncleaned
	Direct  string // the same page with the code in it; may be empty
	Expires time.Time

	answer *oauth2.DeviceAuthResponse
	scopes []string
}

// A Grant is what signing in gave.
type Grant struct {
	Access  secret.Text
	Refresh secret.Text // empty where the server gives none
	Until   time.Time   // when Access ends; zero where the server does not tell
	Scopes  []string    // that were granted; those asked for where the server does not tell
}

// Limits for what a server may want of whoever waits for a person ([8628], section 3.2).
const (
	mostInterval = 300              // seconds between two questions; 0 for the usual five
	longestCode  = 30 * time.Minute // that a code holds
)

// Begin asks for a code that a person confirms in a browser [8628].
func (s *Server) Begin(ctx context.Context, scopes []string) (*Prompt, error) {
	if s.Device == "" || s.Token == "" {
		return nil, ErrNoDevice
	}
	var options []oauth2.AuthCodeOption
	for name, value := range s.description.OAuth.Parameters {
		options = append(options, oauth2.SetAuthURLParam(name, value))
	}
	answer, err := s.config(scopes).DeviceAuth(s.with(ctx), options...)
	if err != nil {
		return nil, wordsOf(ctx, err)
	}
	switch {
	case answer.UserCode == "" || len(answer.UserCode) > 64:
		return nil, fmt.Errorf("%w: no code came", ErrMetadata)
	case !isPage(answer.VerificationURI):
		return nil, fmt.Errorf("%w: the verification page has no https URL: %s", ErrMetadata,
			untrusted.Clean(answer.VerificationURI))
	case answer.Interval < 0 || answer.Interval > mostInterval:
		return nil, fmt.Errorf("%w: it sets a polling interval of %d seconds", ErrMetadata, answer.Interval)
	}
	// [8628] demands it; nobody waits for ever without it
	if latest := time.Now().Add(longestCode); answer.Expiry.IsZero() || answer.Expiry.After(latest) {
		answer.Expiry = latest
	}
	direct := answer.VerificationURIComplete
	if !isPage(direct) {
		direct = ""
	}
	return &Prompt{Code: answer.UserCode, Page: answer.VerificationURI, Direct: direct, Expires: answer.Expiry,
		answer: answer, scopes: scopes}, nil
}

// isPage tells whether an address is one that a browser may be sent to: other schemes run something.
func isPage(text string) bool {
	target, err := url.Parse(text)
	return err == nil && target.Scheme == "https" && target.Hostname() != "" && target.User == nil &&
		untrusted.Clean(text) == text
}

// Wait asks now and then, as often as the server allows, until a person has decided. A server that does not
// answer, fails or wants to be left alone for a while is asked again, more and more seldom, for as long as the code
// holds ([8628], section 3.5).
func (s *Server) Wait(ctx context.Context, p *Prompt) (*Grant, error) {
	config := s.config(p.scopes)
	for pause := max(time.Duration(p.answer.Interval)*time.Second, 5*time.Second); ; pause *= 2 {
		token, err := config.DeviceAccessToken(s.with(ctx), p.answer)
		if err == nil {
			return grant(token, p.scopes)
		}
		wait, passes := passing(err)
		wait = max(wait, pause)
		if !passes || ctx.Err() != nil || time.Now().Add(wait).After(p.Expires) {
			return nil, wordsOf(ctx, err)
		}
		select {
		case <-ctx.Done():
			return nil, wordsOf(ctx, ctx.Err())
		case <-time.After(wait):
		}
	}
}

// passing tells whether a failure may be over the next time, and when the server wants to be asked again.
func passing(err error) (wait time.Duration, passes bool) {
	var refused *oauth2.RetrieveError
	if errors.As(err, &refused) {
		if refused.Response == nil {
			return 0, false
		}
		seconds, _ := strconv.Atoi(refused.Response.Header.Get("Retry-After")) // a date says nothing here
		status := refused.Response.StatusCode
		return min(time.Duration(max(seconds, 0))*time.Second, longestCode),
			status == http.StatusTooManyRequests || status >= 500
	}
	var request *url.Error // nothing came back
	return 0, errors.As(err, &request) && !errors.Is(err, context.Canceled) && !isCertificate(err)
}

// isCertificate tells whether it is another server than it should be: that does not pass.
func isCertificate(err error) bool {
	var certificate *tls.CertificateVerificationError
	return errors.As(err, &certificate)
}

// Refresh gets another access token without asking anybody ([6749], section 6).
// It goes to the server if it was kept for that: the error is [origin.ErrElsewhere] otherwise.
func (s *Server) Refresh(ctx context.Context, refresh origin.Bound, scopes []string) (*Grant, error) {
	if refresh.Empty() {
		return nil, ErrEnded
	}
	old, err := refresh.To(s.description.OAuthPlace(s.Token))
	if err != nil {
		return nil, err
	}
	source := s.config(nil).TokenSource(s.with(ctx), &oauth2.Token{RefreshToken: string(old.Reveal())})
	token, err := source.Token()
	if err != nil {
		if err = wordsOf(ctx, err); errors.Is(err, ErrRefused) {
			err = errors.Join(ErrEnded, err)
		}
		return nil, err
	}
	fresh, err := grant(token, scopes)
	if err != nil {
		return nil, err
	}
	if fresh.Refresh.Empty() { // the old one goes on ([6749], section 6)
		fresh.Refresh = old
	}
	return fresh, nil
}

// grant is what a token is, which must be one that whoever has it may use: git can send no other ([6749],
// section 7.1).
func grant(token *oauth2.Token, asked []string) (*Grant, error) {
	if kind := token.TokenType; kind != "" && !strings.EqualFold(kind, "bearer") {
		return nil, fmt.Errorf("%w: its tokens are of the type %q, which git cannot send", ErrMetadata,
			untrusted.Clean(kind)[:min(len(untrusted.Clean(kind)), 40)])
	}
	g := &Grant{Access: secret.New([]byte(token.AccessToken)), Refresh: secret.New([]byte(token.RefreshToken)),
		Until: token.Expiry, Scopes: asked}
	if text, ok := token.Extra("scope").(string); ok && text != "" {
		g.Scopes = strings.Fields(text)
	}
	return g, nil
}

// wordsOf names the cause of a failure, without what was sent.
func wordsOf(ctx context.Context, err error) error {
	if errors.Is(ctx.Err(), context.Canceled) {
		return context.Canceled
	}
	var refused *oauth2.RetrieveError
	if !errors.As(err, &refused) {
		var request *url.Error
		switch {
		case errors.As(err, &request):
			return hostapi.Unreachable(ctx, err)
		case errors.Is(err, context.DeadlineExceeded):
			return ErrExpired
		}
		// the library's words may hold what came
		return fmt.Errorf("%w: it answers with something else than a token", ErrMetadata)
	}
	switch refused.ErrorCode {
	case "access_denied":
		return ErrDenied
	case "expired_token":
		return ErrExpired
	}
	words := untrusted.Clean(strings.Trim(refused.ErrorCode+": "+refused.ErrorDescription, ": "))
	if words == "" && refused.Response != nil {
		words = "HTTP " + refused.Response.Status
	}
	return fmt.Errorf("%w: %s", ErrRefused, words[:min(len(words), 300)])
}
