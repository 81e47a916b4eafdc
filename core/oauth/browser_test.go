package oauth

import (
	"context"
	"errors"
	"io"
	"net/http"
	"net/url"
	"strings"
	"testing"

	"anchorage.example/unicrux/core/describe"
)

// exchanging answers the exchange of a code, and notes what it was sent.
type exchanging struct{ form url.Values }

func (e *exchanging) RoundTrip(r *http.Request) (*http.Response, error) {
	text, err := io.ReadAll(r.Body)
	if err != nil {
		return nil, err
	}
	e.form, err = url.ParseQuery(string(text))
	return &http.Response{StatusCode: http.StatusOK, Header: http.Header{"Content-Type": {"application/json"}},
		Body:    io.NopCloser(strings.NewReader(`{"access_token":"x","token_type":"bearer","refresh_token":"y"}`)),
		Request: r}, err
}

// TestByBrowser takes the answer that is for this run, and proves to the server that it is.
func TestByBrowser(t *testing.T) {
	t.Parallel()
	for name, row := range map[string]struct {
		back func(asked url.Values) []string // the queries with which the browser comes back
		want error
	}{
		"allowed": {func(q url.Values) []string { return []string{"code=c&state=" + q.Get("state")} }, nil},
		"after a knock": {func(q url.Values) []string {
			return []string{"code=evil&state=x", "code=evil", "code=c&state=" + q.Get("state")}
		}, nil},
		"only the first": {func(q url.Values) []string {
			return []string{"code=c&state=" + q.Get("state"), "code=d&state=" + q.Get("state")}
		}, nil},
		"denied": {func(q url.Values) []string {
			return []string{"error=access_denied&state=" +
				q.Get("state")}
		}, ErrDenied},
		"refused": {func(q url.Values) []string {
			return []string{"error=server_error&state=" +
				q.Get("state")}
		}, ErrRefused},
		"another server": {func(q url.Values) []string {
			return []string{"code=c&iss=https%3A%2F%2Fevil.example&state=" + q.Get("state")}
		}, ErrElsewhere},
		"no code": {func(q url.Values) []string { return []string{"state=" + q.Get("state")} }, ErrMetadata},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			line := &exchanging{}
			s := &Server{Authorize: "https://forge.tidewater.example/a", Token: "https://forge.tidewater.example/t",
				line:        &http.Client{Transport: line},
				description: &describe.Description{OAuth: describe.OAuth{Issuer: "https://forge.tidewater.example"}}}
			grant, err := s.ByBrowser(t.Context(), []string{"repo:read"}, func(page string) {
				asked, err := url.Parse(page)
				if err != nil {
					t.Error(err)
					return
				}
				q := asked.Query()
				if q.Get("code_challenge_method") != "S256" || len(q.Get("code_challenge")) < 43 ||
					q.Get("response_type") != "code" || !strings.HasPrefix(q.Get("redirect_uri"), "http://127.0.0.1:") {
					t.Errorf("asked with %v", q)
				}
				for _, query := range row.back(q) {
					response, err := http.Get(q.Get("redirect_uri") + "?" + query)
					if err != nil {
						t.Error(err)
						return
					}
					_ = response.Body.Close()
				}
			})
			if !errors.Is(err, row.want) {
				t.Fatalf("%v, want %v", err, row.want)
			}
			if row.want == nil && (grant.Access.Empty() || line.form.Get("code") != "c" ||
				len(line.form.Get("code_verifier")) < 43) {
				t.Errorf("%+v by %v", grant, line.form)
			}
		})
	}
	ended, stop := context.WithCancel(t.Context())
	s := &Server{Authorize: "https://forge.tidewater.example/a", Token: "https://forge.tidewater.example/t",
		description: &describe.Description{}}
	if _, err := s.ByBrowser(ended, nil, func(string) { stop() }); !errors.Is(err, context.Canceled) {
		t.Errorf("stopped: %v", err)
	}
	if _, err := (&Server{Token: "https://forge.tidewater.example/t"}).ByBrowser(t.Context(), nil,
		nil); !errors.Is(err, ErrNoBrowser) {
		t.Errorf("not offered: %v", err)
	}
}
