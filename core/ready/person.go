package ready

import (
	"context"
	"crypto/x509"
	"time"

	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/diagnose/finding"
	"anchorage.example/unicrux/core/registration"
	"anchorage.example/unicrux/core/site"
	"anchorage.example/unicrux/core/tokens"
	"anchorage.example/unicrux/core/trust"
)

// A Person is what only the person can give or do. What is nil cannot be asked for: then a way stops there.
type Person struct {
	site.Secrets

	// Vouch compares a host's keys with what the person says of them.
	Vouch func(context.Context, *trust.Seen) (*trust.Voucher, error)
	// Browser lets her sign in to a host in a browser, and returns what came of it, to be kept.
	Browser func(context.Context, *describe.Description, []string) (tokens.NewToken, error)
	// VouchCA compares a certificate that vouches for a host with what the person says of it.
	VouchCA func(host string, certificate *x509.Certificate) error
	// Author is who commits are by.
	Author func() (name, email string, err error)
	// Paste shows the public line that she has to put on the host's web page, and says how long she is waited for.
	Paste func(registration.Registration) (patience time.Duration, err error)
	// Account is the user name with which a token or password is shown to a host that cannot be asked whose it is.
	Account func(*describe.Description) (string, error)
	// Learn allows describing a host that nobody has described, under a name or the one that is made of its host name.
	Learn func() (name string)
	// Again is called when what she gave was wrong, before it is asked once more. It returns false where it is not.
	Again func(why string) bool
}

// can reports whether a mend can be carried out that needs her.
func (p Person) can(act finding.Act) bool {
	switch act {
	case finding.CompareHost:
		return p.Vouch != nil
	case finding.NameAuthor:
		return p.Author != nil
	case finding.SignIn:
		return p.Browser != nil
	case finding.TrustCA:
		return p.VouchCA != nil
	case finding.PasteKey:
		return p.Paste != nil
	}
	return false
}
