// Package origin says where a secret may go. A secret is kept for places: an origin, the address at
// which that was reached, and who vouched for its certificate. It is [Bound] to them by its type, so
// that no redirect, no description and no caller can send it anywhere else.
//
//	[6454] RFC 6454: the web origin
package origin

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"anchorage.example/unicrux/core/allow"
	"anchorage.example/unicrux/core/fault"
	"anchorage.example/unicrux/core/secret"
)

// ErrElsewhere is returned where a secret would go to a place that it was not kept for.
var ErrElsewhere = fault.New("secret-elsewhere", fault.Refused, "the secret was stored for another place, and Unicrux sends it to no other")

// ErrUnprotected is returned for a place where nothing would protect a secret on its way.
var ErrUnprotected = fault.New("secret-unprotected", fault.Refused, "the connection is unencrypted, and secrets are not sent over it")

// Of is the origin of a URL: scheme, host and port, the usual port written out ([6454], section 4).
func Of(u *url.URL) string {
	port := u.Port()
	if port == "" {
		port = map[string]string{"https": "443", "http": "80"}[u.Scheme]
	}
	return u.Scheme + "://" + allow.LowerHost(u.Hostname()) + ":" + port
}

// Web is the origin of a host as it stands in HTTPS URLs, with its port when one stands there.
func Web(at string) string {
	u, err := url.Parse("https://" + at)
	if err != nil {
		return ""
	}
	return Of(u)
}

// A Place is where a secret may go.
type Place struct {
	Origin  string `json:"origin"`            // as [Of] writes it
	Address string `json:"address,omitempty"` // in place of what the name servers say; empty for these
	// who vouches, as [Authority] writes it; empty for the system's authorities
	Authority string `json:"authority,omitempty"`
}

// Authority marks certificates (PEM) so that they are known again: SHA-256, in hexadecimal digits.
func Authority(pem string) string {
	if pem == "" {
		return ""
	}
	sum := sha256.Sum256([]byte(pem))
	return hex.EncodeToString(sum[:])
}

// String says a place in words.
func (p Place) String() string {
	text := p.Origin
	if p.Address != "" {
		text += " at " + p.Address
	}
	if p.Authority != "" {
		text += fmt.Sprintf(" (certificate authority with SHA-256 %.16s…)", p.Authority)
	}
	return text
}

// Bound is a secret with the places to which it may go. The zero value is no secret, for nowhere.
type Bound struct {
	text    secret.Text
	places  []Place
	account string
}

// Bind lets a secret go to some places, and nowhere else.
func Bind(text secret.Text, places ...Place) Bound {
	return Bound{text: text, places: slices.Clone(places)}
}

// Of is the same secret, of which it is known whose it is.
func (b Bound) Of(account string) Bound {
	b.account = account
	return b
}

// Account is whose secret it is; empty where that is not known.
func (b Bound) Account() string { return b.account }

// Empty tells whether there is no secret.
func (b Bound) Empty() bool { return b.text.Empty() }

// To gives the secret for a place. The error is [ErrElsewhere] or [ErrUnprotected].
func (b Bound) To(place Place) (secret.Text, error) {
	return b.to(place.String(), place.Origin, slices.Contains(b.places, place))
}

// ToOrigin gives the secret for an origin, wherever that is: for what git itself would send there.
func (b Bound) ToOrigin(u *url.URL) (secret.Text, error) {
	there := Of(u)
	return b.to(there, there, slices.ContainsFunc(b.places, func(p Place) bool { return p.Origin == there }))
}

func (b Bound) to(name, origin string, kept bool) (secret.Text, error) {
	switch {
	case b.Empty():
		return secret.Text{}, nil
	case !kept:
		return secret.Text{}, fmt.Errorf("%w: not to %s", ErrElsewhere, name)
	case !strings.HasPrefix(origin, "https://"):
		return secret.Text{}, ErrUnprotected
	}
	return b.text, nil
}
