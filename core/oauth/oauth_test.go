package oauth

import (
	"context"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"slices"
	"strconv"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/origin"
	"anchorage.example/unicrux/demo"
	"anchorage.example/unicrux/standin"
)

// forge is a practice host with its description.
func forge(t *testing.T) (*standin.Host, *describe.Description) {
	t.Helper()
	host, err := demo.Serve("forge", standin.Options{})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = host.Close() })
	d, _, err := describe.ReadFile(host.DescriptionFile())
	if err != nil {
		t.Fatal(err)
	}
	return host, d
}

// TestSigningIn goes the whole way on the practice host: a code, waiting, slowing down, a
// person who allows it; then asking about the token, refreshing and revoking it.
func TestSigningIn(t *testing.T) {
	t.Parallel()
	host, d := forge(t)
	server, err := Discover(t.Context(), d)
	if err != nil {
		t.Fatal(err)
	}
	prompt, err := server.Begin(t.Context(), []string{"repo:read", "repo:write"})
	if err != nil || !strings.Contains(prompt.Direct, prompt.Code) {
		t.Fatalf("%+v, %v", prompt, err)
	}
	go func() { // decides when it was asked in vain at least once
		for !host.Polled(prompt.Code) {
			select {
			case <-t.Context().Done():
				return
			case <-time.After(10 * time.Millisecond):
			}
		}
		host.Decide(prompt.Code, "ines.marlow", true)
	}()
	grant, err := server.Wait(t.Context(), prompt)
	if err != nil || grant.Access.Empty() || grant.Refresh.Empty() || grant.Until.IsZero() ||
		!slices.Equal(grant.Scopes, []string{"repo:read", "repo:write"}) {
		t.Fatalf("%+v, %v", grant, err)
	}
	known, err := server.Ask(t.Context(), server.description.Bind(grant.Access))
	if err != nil || !known.Active || known.Account != "ines.marlow" || known.Until.IsZero() {
		t.Errorf("%+v, %v", known, err)
	}
	fresh, err := server.Refresh(t.Context(), server.description.Bind(grant.Refresh), grant.Scopes)
	if err != nil || string(fresh.Access.Reveal()) == string(grant.Access.Reveal()) {
		t.Fatalf("refreshed: %v", err)
	}
	if _, err := server.Refresh(t.Context(), server.description.Bind(grant.Refresh),
		grant.Scopes); !errors.Is(err, ErrEnded) {
		t.Errorf("refreshed with what was used already: %v", err)
	}
	if err := server.Forget(t.Context(), server.description.Bind(fresh.Access)); err != nil {
		t.Error(err)
	}
	if known, err := server.Ask(t.Context(), server.description.Bind(fresh.Access)); err != nil || known.Active {
		t.Errorf("revoked: %+v, %v", known, err)
	}
	if text := fmt.Sprintf("%+v %v", grant, fresh); strings.Contains(text, "tide-") ||
		strings.Contains(text, "again-") {
		t.Errorf("a secret is printed: %s", text)
	}
}

func TestDeniedAndCalledOff(t *testing.T) {
	t.Parallel()
	host, d := forge(t)
	server, err := Discover(t.Context(), d)
	if err != nil {
		t.Fatal(err)
	}
	prompt, err := server.Begin(t.Context(), []string{"repo:read"})
	if err != nil {
		t.Fatal(err)
	}
	host.Decide(prompt.Code, "ines.marlow", false)
	if _, err := server.Wait(t.Context(), prompt); !errors.Is(err, ErrDenied) {
		t.Errorf("denied: %v", err)
	}
	if _, err := server.Begin(t.Context(), []string{"everything"}); !errors.Is(err, ErrRefused) ||
		!strings.Contains(err.Error(), "invalid_scope") {
		t.Errorf("a scope that there is not: %v", err)
	}
	prompt, err = server.Begin(t.Context(), nil)
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := server.Wait(ctx, prompt); !errors.Is(err, context.Canceled) {
		t.Errorf("called off: %v", err)
	}
}

// TestMetadataIsBelievedWithinLimits has servers whose metadata leads elsewhere, is another's,
// or is not there.
func TestMetadataIsBelievedWithinLimits(t *testing.T) {
	t.Parallel()
	for _, row := range []struct {
		name, path, metadata, more string
		want                       error
	}{
		{"as OpenID has it", "/.well-known/openid-configuration",
			`{"issuer":"ISSUER","token_endpoint":"ISSUERt","device_authorization_endpoint":"ISSUERd"}`, "", nil},
		{"elsewhere", "/.well-known/oauth-authorization-server",
			`{"issuer":"ISSUER","token_endpoint":"https://elsewhere.example/t"}`, "", ErrElsewhere},
		{"elsewhere, and the description names it", "/.well-known/oauth-authorization-server",
			`{"issuer":"ISSUER","token_endpoint":"https://elsewhere.example/t"}`,
			"also = [\"https://elsewhere.example\"]\n", nil},
		{"not by https", "/.well-known/oauth-authorization-server",
			`{"issuer":"ISSUER","revocation_endpoint":"http://127.0.0.1/t"}`, "", ErrElsewhere},
		{"another's", "/.well-known/oauth-authorization-server", `{"issuer":"https://elsewhere.example/"}`,
			"", ErrMetadata},
		{"nothing", "/other", `{}`, "", ErrMetadata},
		{"a page", "/.well-known/oauth-authorization-server", `<html>`, "", ErrMetadata},
	} {
		var issuer string
		server := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if r.URL.Path != row.path {
				w.WriteHeader(http.StatusNotFound)
				return
			}
			_, _ = fmt.Fprint(w, strings.ReplaceAll(row.metadata, "ISSUER", issuer))
		}))
		issuer = server.URL + "/"
		authority := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: server.Certificate().Raw})
		d, err := describe.Parse(fmt.Appendf(nil,
			"unicrux = 1\nname = \"forge\"\n[ssh]\nhost = \"forge.tidewater.example\"\nuser = \"git\"\n[oauth]\nissuer = %q\nclient = \"unicrux\"\nauthority = \"\"\"%s\"\"\"\n%s", issuer, authority, row.more))
		if err != nil {
			t.Fatal(err)
		}
		if _, err := Discover(t.Context(), d); !errors.Is(err, row.want) {
			t.Errorf("%s: %v, want %v", row.name, err, row.want)
		}
		server.Close()
	}
	if _, err := Discover(t.Context(), &describe.Description{}); !errors.Is(err, ErrNone) {
		t.Errorf("no server: %v", err)
	}
	s := &Server{}
	if _, err := s.Ask(t.Context(), origin.Bound{}); !errors.Is(err, ErrCannot) {
		t.Error(err)
	}
	if err := s.Forget(t.Context(), origin.Bound{}); !errors.Is(err, ErrCannot) {
		t.Error(err)
	}
	if _, err := s.Begin(t.Context(), nil); !errors.Is(err, ErrNoDevice) {
		t.Error(err)
	}
}

// A scripted server answers what a test says, without a network.
type scripted struct {
	answers []string
	asked   []time.Time
}

func (s *scripted) RoundTrip(r *http.Request) (*http.Response, error) {
	s.asked = append(s.asked, time.Now())
	text := s.answers[min(len(s.asked), len(s.answers))-1]
	status, header := http.StatusOK, http.Header{"Content-Type": {"application/json"}}
	if strings.Contains(text, `"error"`) {
		status = http.StatusBadRequest
	}
	if number, rest, found := strings.Cut(text, "!"); found { // a status before it; 0 for no answer
		if status, _ = strconv.Atoi(number); status == 0 {
			return nil, io.ErrUnexpectedEOF
		}
		text = rest
		header.Set("Retry-After", "40")
	}
	return &http.Response{StatusCode: status, Header: header, Body: io.NopCloser(strings.NewReader(text)),
		Request: r}, nil
}

const deviceAnswer = `{"device_code":"d","user_code":"AB","verification_uri":"https://forge.tidewater.example/d","expires_in":600,"interval":3}`

// waiting signs in at a server that answers as it is told.
func waiting(t *testing.T, answers ...string) (grant *Grant, gaps []time.Duration, err error) {
	t.Helper()
	script := &scripted{answers: append([]string{deviceAnswer}, answers...)}
	s := &Server{Device: "https://forge.tidewater.example/d", Token: "https://forge.tidewater.example/t",
		description: &describe.Description{}, line: &http.Client{Transport: script}}
	prompt, err := s.Begin(t.Context(), nil)
	if err != nil {
		t.Fatal(err)
	}
	grant, err = s.Wait(t.Context(), prompt)
	for i := range script.asked[1:] {
		gaps = append(gaps, script.asked[i+1].Sub(script.asked[i]))
	}
	return grant, gaps, err
}

// TestWaitsOut: a connection that is dropped, a server that fails or wants to be left alone: it is asked again,
// more and more seldom, and no longer than the code holds.
func TestWaitsOut(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		grant, gaps, err := waiting(t, "0!", "503!<html>busy</html>", "429!", `{"error":"authorization_pending"}`,
			`{"access_token":"x","token_type":"Bearer"}`)
		if err != nil || grant.Access.Empty() {
			t.Fatal(err)
		}
		if want := []time.Duration{3 * time.Second, 8 * time.Second, 43 * time.Second, 43 * time.Second,
			3 * time.Second}; !slices.Equal(gaps, want) {
			t.Errorf("asked after %v, want %v", gaps, want)
		}
		start := time.Now()
		if _, _, err := waiting(t, "503!"); !errors.Is(err, ErrRefused) || time.Since(start) > 10*time.Minute {
			t.Errorf("it fails for ever: %v after %v", err, time.Since(start))
		}
		if _, gaps, err := waiting(t, `{"error":"access_denied"}`, `{"access_token":"x"}`); !errors.Is(err,
			ErrDenied) || len(gaps) != 1 {
			t.Errorf("denied: %v after %v", err, gaps)
		}
	})
}

// TestTokenAnswers: what is no token that git could send is refused, in words of ours.
func TestTokenAnswers(t *testing.T) {
	t.Parallel()
	for answer, want := range map[string]error{
		`{"access_token":"x"}`:                                  nil,
		`{"access_token":"x","token_type":"BEARER"}`:            nil,
		`{"access_token":"tide_1","token_type":"mac"}`:          ErrMetadata,
		`{"token_type":"bearer"}`:                               ErrMetadata,
		`tide_1`:                                                ErrMetadata,
		`{"access_token":["tide_1"]}`:                           ErrMetadata,
		`400!{"error":"server_error","error_description":"no"}`: ErrRefused,
	} {
		synctest.Test(t, func(t *testing.T) {
			_, _, err := waiting(t, answer)
			if !errors.Is(err, want) || err != nil && (strings.Contains(err.Error(), "tide_1") ||
				strings.Contains(err.Error(), "oauth2")) {
				t.Errorf("%s: %v, want %v", answer, err, want)
			}
		})
	}
}

// TestPaceIsTheServers asks as often as the server allows, more slowly when it says so, and no
// longer than the code is good.
func TestPaceIsTheServers(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		script := &scripted{answers: []string{
			`{"device_code":"d","user_code":"AB","verification_uri":"https://forge.tidewater.example/d","expires_in":60,"interval":3}`,
			`{"error":"authorization_pending"}`, `{"error":"slow_down"}`, `{"error":"authorization_pending"}`,
			`{"access_token":"x","token_type":"bearer","expires_in":60}`}}
		s := &Server{Device: "https://forge.tidewater.example/d", Token: "https://forge.tidewater.example/t",
			description: &describe.Description{}, line: &http.Client{Transport: script}}
		prompt, err := s.Begin(t.Context(), nil)
		if err != nil {
			t.Fatal(err)
		}
		if grant, err := s.Wait(t.Context(), prompt); err != nil || grant.Access.Empty() {
			t.Fatalf("%v", err)
		}
		var gaps []time.Duration
		for i := range script.asked[1:] {
			gaps = append(gaps, script.asked[i+1].Sub(script.asked[i]))
		}
		if want := []time.Duration{3 * time.Second, 3 * time.Second, 8 * time.Second,
			8 * time.Second}; !slices.Equal(gaps, want) {
			t.Errorf("asked after %v, want %v", gaps, want)
		}
		script.answers, script.asked = []string{script.answers[0], `{"error":"authorization_pending"}`}, nil
		if prompt, err = s.Begin(t.Context(), nil); err != nil {
			t.Fatal(err)
		}
		start := time.Now()
		if _, err := s.Wait(t.Context(), prompt); !errors.Is(err, ErrExpired) || time.Since(start) > 61*time.Second {
			t.Errorf("nobody decides: %v after %v", err, time.Since(start))
		}
	})
}
