package trial

import (
	"context"
	"errors"
	"fmt"
	"net/url"

	"anchorage.example/unicrux/core/allow"
	"anchorage.example/unicrux/core/causes"
	"anchorage.example/unicrux/core/chest"
	"anchorage.example/unicrux/core/diagnose"
	"anchorage.example/unicrux/core/diagnose/finding"
	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/origin"
	"anchorage.example/unicrux/core/site"
	"anchorage.example/unicrux/core/tokens"
)

// A Tried token is what git's own requests with it came to. Nothing is changed by them.
type Tried struct {
	URL           string // of the repository
	Reads, Writes bool
	Refused       string // why not, in a sentence; empty where nothing was refused
}

// ErrElsewhere is returned for a repository at another host than the token is for.
var ErrElsewhere = errors.New("the token is for another host")

// Token makes the requests that git makes for a clone and for a push, with a token in place of
// what git's helpers would answer. Without a URL it takes a remote of the current folder that is at
// the token's host; it returns nil where there is none. The error is [tokens.ErrTokenUnproved] where the
// host does not take the token.
func Token(ctx context.Context, p site.Site, e chest.Entry, token origin.Bound, text string) (*Tried, error) {
	if text == "" {
		if text = remoteAt(ctx, p, e.At); text == "" {
			return nil, nil
		}
	}
	at, err := url.Parse(text)
	if err != nil || at.Scheme != "https" || !allow.SameHost(at.Host, e.At) { // its words could hold a secret
		return nil, fmt.Errorf("%s: %w", e.Name, ErrElsewhere)
	}
	at.User = nil
	tried := &Tried{URL: at.String()}
	sent := &finding.Sent{User: e.User, Token: token}
	for _, purpose := range []finding.Purpose{finding.Push, finding.Clone} {
		way, err := diagnose.Check(ctx, p.Station, p.Registry,
			finding.Request{Argument: tried.URL, Purpose: purpose, Program: finding.Git, Sent: sent,
				Timeout: p.Timeout})
		switch {
		case err != nil:
			return nil, err
		case way.IsOpen():
			tried.Reads, tried.Writes = true, purpose == finding.Push
			return tried, nil
		case way.Crux.Stage == causes.SignIn && way.Crux.Code != causes.TokenPurposeMissing:
			return nil, fmt.Errorf("%w: %s", tokens.ErrTokenUnproved, way.Crux.Summary)
		case tried.Refused == "":
			tried.Refused = way.Crux.Summary
		}
	}
	return tried, nil
}

// remoteAt is the first remote of the current folder over HTTPS at a host; empty for none.
func remoteAt(ctx context.Context, p site.Site, host string) string {
	config, err := gitlink.ReadConfig(ctx, p.Station)
	if err != nil {
		return ""
	}
	for _, name := range config.Remotes() {
		entry, _, _ := config.RemoteURL(name, false)
		if at, err := url.Parse(entry.Value); err == nil && at.Scheme == "https" && allow.SameHost(at.Host, host) {
			return entry.Value
		}
	}
	return ""
}
