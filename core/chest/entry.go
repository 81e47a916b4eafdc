package chest

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"anchorage.example/unicrux/core/origin"
	"anchorage.example/unicrux/core/secret"
)

// A Kind is a place where secrets are.
type Kind string

// The kinds.
const (
	Sealed  Kind = "sealed"
	Desktop Kind = "desktop"
	Memory  Kind = "memory"
)

// Kinds lists them.
func Kinds() []Kind { return []Kind{Sealed, Desktop, Memory} }

// An Entry is what is known about a secret without opening anything.
type Entry struct {
	Name string `json:"name"` // how a person calls it; no other has it
	Kind Kind   `json:"kind"`

	// For whom git asks: the secret goes to exactly this protocol and host, and no other.
	Protocol string `json:"protocol"` // https
	At       string `json:"at"`       // the host as in URLs, with its port when one stands there
	Path     string `json:"path,omitempty"`
	User     string `json:"user"` // what git gives as user name

	// Places are where the secret may go, as they were when it was kept: to git's host, to the host's
	// interface, to the server by which one signs in.
	Places []origin.Place `json:"places,omitempty"`

	Host     string    `json:"host,omitempty"` // the name of its description
	Account  string    `json:"account,omitempty"`
	ID       string    `json:"id,omitempty"` // the host's own
	Label    string    `json:"label,omitempty"`
	Purposes []string  `json:"purposes,omitempty"`
	Scopes   []string  `json:"scopes,omitempty"`
	Made     time.Time `json:"made"`
	Until    time.Time `json:"until,omitzero"` // zero for no end that we know of
	Proved   time.Time `json:"proved,omitzero"`
	Signed   bool      `json:"signed,omitempty"` // by OAuth: it renews itself
	// the host's own name of the token in whose place this one came, until the host has forgotten that
	Owed string `json:"owed,omitempty"`

	sealed []byte // the secret, as it was in the file from which the entry was read
}

// foresightDays is how long before its end a secret is spoken of.
const foresightDays = 14

// EndsSoon tells whether a secret ends within two weeks, or has ended, and does not renew itself.
func (e Entry) EndsSoon(now time.Time) bool {
	return !e.Signed && !e.Until.IsZero() && e.Until.Before(now.AddDate(0, 0, foresightDays))
}

// Ended tells whether a secret is past its end, as far as is known here. One that renews itself never is.
func (e Entry) Ended(now time.Time) bool {
	return !e.Signed && !e.Until.IsZero() && !e.Until.After(now)
}

// Fits tells whether an entry is for a user name (or account) and a path as git asks for them; an
// empty user is any.
func (e Entry) Fits(user, path string) bool {
	return (user == "" || e.User == user || e.Account == user) && (e.Path == "" || e.Path == path)
}

// A Secret is what is kept sealed.
type Secret struct {
	Token   secret.Text
	Refresh secret.Text // by which OAuth renews it; empty for none
	Former  secret.Text // the token that is owed ([Entry]): many hosts let a token revoke itself alone
}

// Bound gives the token for the places for which the entry was kept.
func (s Secret) Bound(e Entry) origin.Bound { return origin.Bind(s.Token, e.Places...).Of(e.Account) }

// sealedSecret is what is sealed: the secret together with what it is for. So nobody who can write
// in the folder, and cannot open the chest, makes a secret answer for something else.
type sealedSecret struct {
	For     purpose `json:"for"`
	Token   []byte  `json:"token"`
	Refresh []byte  `json:"refresh,omitempty"`
	Former  []byte  `json:"former,omitempty"`
}

// purpose is what a secret is sealed for.
type purpose struct {
	Name, Protocol, At, Path, User string
	Places                         []origin.Place
}

func (e Entry) purpose() purpose { return purpose{e.Name, e.Protocol, e.At, e.Path, e.User, e.Places} }

func (p purpose) is(other purpose) bool {
	return slices.Equal(p.Places, other.Places) && p.Name == other.Name && p.Protocol == other.Protocol &&
		p.At == other.At && p.Path == other.Path && p.User == other.User
}

// maxSecret bounds a secret with what it is for: the holder takes no longer messages.
const maxSecret = 180 << 10

func (s Secret) marshal(e Entry) ([]byte, error) {
	text, err := json.Marshal(sealedSecret{e.purpose(), s.Token.Reveal(), s.Refresh.Reveal(), s.Former.Reveal()})
	if len(text) > maxSecret {
		return nil, ErrLarge
	}
	return text, err
}

// unmarshal reads what was sealed for an entry. The error is [ErrDamaged], or [ErrSwapped].
func unmarshal(text []byte, e Entry) (Secret, error) {
	var s sealedSecret
	if err := json.Unmarshal(text, &s); err != nil {
		return Secret{}, ErrDamaged
	}
	if !s.For.is(e.purpose()) {
		return Secret{}, fmt.Errorf("%s: %w", e.Name, ErrSwapped)
	}
	return Secret{secret.New(s.Token), secret.New(s.Refresh), secret.New(s.Former)}, nil
}

// check refuses what would end up in places where it does not belong.
func (e Entry) check() error {
	for _, text := range []string{e.Name, e.Protocol, e.At, e.Path, e.User} {
		if strings.ContainsAny(text, "\x00\r\n") {
			return errors.New("a line end or a zero byte, which no entry may have")
		}
	}
	if e.Name == "" || e.Protocol == "" || e.At == "" || len(e.Name) > 100 || len(e.At) > 260 {
		return errors.New("an entry needs a name, a protocol and a host")
	}
	return nil
}
