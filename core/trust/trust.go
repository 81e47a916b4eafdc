// Package trust stores the key of a host after it was compared: with what the host publishes, with what the name
// servers or a page that the person names say, with what is trusted already under another name, or with what the
// person gives.
package trust

import (
	"context"
	"errors"

	"golang.org/x/crypto/ssh"

	"anchorage.example/unicrux/core/fault"
	"anchorage.example/unicrux/core/site"
	"anchorage.example/unicrux/core/workstation"
)

// Reasons for which [Host] and [Seen.Store] do not store a host's key, for errors.Is.
var (
	ErrUnpublished = fault.New("host-key-unpublished", fault.Refused, "the host publishes no key that we know of, so there is nothing to compare with")
	ErrOtherKey    = fault.New("host-key-other", fault.Refused, "the host offers another key than the one it should have")
	ErrRevoked     = fault.New("host-key-revoked", fault.Refused, "the host offers a key that is marked here as revoked")
	ErrNoFile      = fault.New("host-key-no-file", fault.Refused, "settings name no file in which host keys are stored")
)

// Trusted says which key is trusted now, and why.
type Trusted struct {
	Key     ssh.PublicKey // the one that was compared
	Name    string        // under which ssh looks it up
	Because string        // what it was compared with
	File    string        // where it is stored
	Already bool          // it was stored before
}

// A KeyMismatch holds what was offered and what it was compared with.
type KeyMismatch struct {
	Offered []ssh.PublicKey // all that the host has, as far as it could be asked
	Wanted  string          // fingerprint
	Source  string          // who says so
}

func (e *KeyMismatch) Error() string { return ErrOtherKey.Error() }

// Unwrap returns [ErrOtherKey].
func (e *KeyMismatch) Unwrap() error { return ErrOtherKey }

// An UnpublishedError is an [ErrUnpublished] with the keys that the host has.
type UnpublishedError struct {
	Seen *Seen
	Err  error // [ErrUnpublished], or wraps it
}

func (e *UnpublishedError) Error() string { return e.Err.Error() }

// Unwrap returns the reason.
func (e *UnpublishedError) Unwrap() error { return e.Err }

// Host trusts a host by what can be compared without asking anybody: what it publishes, and what the name servers vouch
// for. The error is an *[UnpublishedError] where there is neither; then nothing is stored.
func Host(ctx context.Context, p site.Site, batch *workstation.Batch, name string) (*Trusted, error) {
	seen, err := Look(ctx, p, name)
	if err != nil {
		return nil, err
	}
	voucher, err := seen.Published(ctx)
	if errors.Is(err, ErrUnpublished) {
		if voucher = seen.NameServers(ctx); voucher == nil {
			return nil, &UnpublishedError{seen, err}
		}
		err = nil
	}
	if err != nil {
		return nil, err
	}
	return seen.Store(batch, voucher)
}
