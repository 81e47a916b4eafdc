package diagnose

import (
	"bytes"
	"context"
	"slices"
	"strings"
	"time"

	"anchorage.example/unicrux/core/allow"
	"anchorage.example/unicrux/core/chest"
	"anchorage.example/unicrux/core/hostapi"
	"anchorage.example/unicrux/core/plainsecrets"
	"anchorage.example/unicrux/core/sshconfig"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/untrusted"
)

// oldKey is how long a key may be in use before another one is advised.
const oldKey = 5 * 365 * 24 * time.Hour

func (c *checker) note(code Code) {
	summary := strings.ReplaceAll(noteSummary(code), "HOST", untrusted.Clean(c.address.Host))
	c.way.Notes = append(c.way.Notes, Note{Code: code, Summary: summary})
}

// notes gathers what is worth knowing about an open way.
func (c *checker) notes() {
	trip := c.way.Trip
	if value, _, set := c.passage.Settings.First("forwardagent"); set && !strings.EqualFold(value, "no") {
		c.note("agent-forwarded")
	} else if origin, wide := sshconfig.ForwardsToAll(c.passage.Settings.Query); wide {
		c.note("agent-forwarded-everywhere")
		c.way.fact(Settings, "forwardagent", "yes, to every host", c.origin(origin))
	}
	if trip != nil && c.host != nil && !c.host.Can("host-keys") { // what needs no further question
		published, err := hostapi.Published(context.Background(), c.host, 0)
		if err == nil && published.Any() && trip.HostKey != nil && !published.Has(trip.HostKey) {
			c.note("host-key-unpublished")
		}
	}
	if len(c.passage.Settings.Unused()) > 0 {
		c.note("settings-unused")
	}
	if trip == nil || trip.With < 0 {
		return
	}
	key := c.offered()[trip.With]
	switch {
	case key.Locked && !c.passage.AsksOnce():
		c.note("passphrase-asked")
	case key.Pair != nil && !key.Pair.Locked:
		c.note("key-no-passphrase")
	}
	if sshkey.IsWeak(key.Public) {
		c.note("key-weak")
	}
	if key.Pair != nil && !key.Pair.Modified.IsZero() && c.station.Now().Sub(key.Pair.Modified) > oldKey {
		c.note("key-old")
	}
	if key.Pair != nil && key.Pair.HasPublic && key.Pair.Comment == "" {
		c.note("key-comment-empty")
	}
}

// webNotes gathers what is worth knowing about an open way over HTTPS.
func (c *checker) webNotes() {
	if c.sent.Password.Empty() {
		return
	}
	if e, found := c.sentToken(); found {
		c.tokenNotes(e)
		return
	}
	if c.hg != nil || slices.ContainsFunc(append(plainsecrets.InNetrc(c.station), plainsecrets.InStore(c.station, c.config)...), func(s plainsecrets.Stray) bool {
		return bytes.Equal(s.Secret.Reveal(), c.sent.Password.Reveal())
	}) {
		c.note("secret-in-plain-file")
	}
}

// sentToken is the token in the chest that was sent.
func (c *checker) sentToken() (chest.Entry, bool) {
	list, err := chest.Of(c.station).At("https", allow.LowerHost(c.base.Host))
	if err != nil {
		return chest.Entry{}, false
	}
	for _, e := range list {
		if kept, err := chest.Of(c.station).Get(e); err == nil && bytes.Equal(kept.Token.Reveal(), c.sent.Password.Reveal()) {
			return e, true
		}
	}
	return chest.Entry{}, false
}

func (c *checker) tokenNotes(e chest.Entry) {
	if e.EndsSoon(c.station.Now()) {
		c.note("token-ends-soon")
	}
	if e.Until.IsZero() && !e.Signed && !e.Proved.IsZero() && len(e.Scopes) > 0 { // who tells scopes tells the end
		c.note("token-never-ends")
	}
	if c.host == nil || len(e.Purposes) == 0 || len(c.host.Purposes) == 0 {
		return
	}
	var needed []string
	for _, purpose := range e.Purposes {
		needed = append(needed, c.host.Purposes[purpose]...)
	}
	if slices.ContainsFunc(e.Scopes, func(s string) bool { return !slices.Contains(needed, s) }) {
		c.note("token-too-wide")
	}
}
