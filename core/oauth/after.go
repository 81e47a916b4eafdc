package oauth

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"time"

	"anchorage.example/unicrux/core/hostapi"
	"anchorage.example/unicrux/core/origin"
)

// Forget makes the server forget a token ([7009]). One that it does not know is no error.
func (s *Server) Forget(ctx context.Context, token origin.Bound) error {
	if s.Revoke == "" {
		return ErrCannot
	}
	status, _, err := s.post(ctx, s.Revoke, token)
	if err == nil && status != http.StatusOK {
		err = fmt.Errorf("%w: HTTP %d", ErrRefused, status)
	}
	return err
}

// An Introspection is what the server says of a token ([7662]).
type Introspection struct {
	Active  bool
	Account string // may be empty
	Scopes  []string
	Until   time.Time // zero where it is not told
}

// Ask asks the server about a token ([7662]).
func (s *Server) Ask(ctx context.Context, token origin.Bound) (*Introspection, error) {
	if s.Introspect == "" {
		return nil, ErrCannot
	}
	status, text, err := s.post(ctx, s.Introspect, token)
	if err != nil {
		return nil, err
	}
	var answer struct {
		Active   bool   `json:"active"`
		Username string `json:"username"`
		Subject  string `json:"sub"`
		Scope    string `json:"scope"`
		Exp      int64  `json:"exp"`
	}
	if status != http.StatusOK || json.Unmarshal(text, &answer) != nil {
		return nil, fmt.Errorf("%w: HTTP %d", ErrRefused, status)
	}
	known := &Introspection{Active: answer.Active, Account: answer.Username, Scopes: strings.Fields(answer.Scope)}
	if known.Account == "" {
		known.Account = answer.Subject
	}
	if answer.Exp > 0 {
		known.Until = time.Unix(answer.Exp, 0).UTC()
	}
	return known, nil
}

// post sends a token as a public client ([6749], section 2.3.1, without a secret), if it was kept for
// that place.
func (s *Server) post(ctx context.Context, to string, token origin.Bound) (int, []byte, error) {
	text, err := token.To(s.description.OAuthPlace(to))
	if err != nil {
		return 0, nil, err
	}
	form := url.Values{"token": {string(text.Reveal())}, "client_id": {s.description.OAuth.Client}}
	h, err := http.NewRequestWithContext(ctx, http.MethodPost, to, strings.NewReader(form.Encode()))
	if err != nil {
		return 0, nil, fmt.Errorf("%w: no address", ErrMetadata)
	}
	h.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	h.Header.Set("Accept", "application/json")
	return hostapi.Exchange(s.line, h)
}
