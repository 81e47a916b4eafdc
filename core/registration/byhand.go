package registration

import (
	"context"
	"errors"
	"fmt"
	"time"

	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/fault"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/keys"
	"anchorage.example/unicrux/core/site"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/wire"
	"anchorage.example/unicrux/core/workstation"
)

// ErrWaited is returned when the host does not take the key within the time given.
var ErrWaited = fault.New("key-not-accepted-yet", fault.Refused, "the host does not accept the key yet")

// ErrStillTaken is returned when the host goes on taking a key within the time given.
var ErrStillTaken = fault.New("key-still-taken", fault.Refused, "the host still accepts the key")

// Why a host does not accept a key yet, for errors.Is.
var (
	// ErrType is returned where the host says that it accepts no signature that such a key makes.
	ErrType = fault.New("key-type", fault.Refused, "the host accepts no keys of this type")
	// errNotYet is the usual one.
	errNotYet = errors.New("the host does not accept the key yet")
)

// ByHand tries to sign in now and then until the host takes a key, which a person told it on
// its page, and then makes settings use it. A patience of 0 tries once. The error is [ErrWaited], wraps [ErrType] where
// the host accepts no such key, or is that of the connection.
func ByHand(ctx context.Context, p site.Site, batch *workstation.Batch, r Registration,
	patience time.Duration) (*Registered, error) {
	done := &Registered{Title: r.Title}
	if batch.Dry {
		return done, keys.SetUse(ctx, p, batch, r.Host.HostName(), r.Pair)
	}
	err := p.TryUntil(ctx, patience, ErrWaited, func(ctx context.Context) (yet, never error) {
		err := Prove(ctx, p, r, done)
		switch {
		case errors.Is(err, ErrType) || !errors.Is(err, ErrUnproved):
			return nil, err
		case errors.Is(err, wire.ErrHungUp), errors.Is(err, wire.ErrRefused):
			return fmt.Errorf("%w: %w", site.ErrCalm, err), nil
		}
		return errNotYet, nil
	})
	if err != nil {
		return done, err
	}
	if err := keys.SetUse(ctx, p, batch, r.Host.HostName(), r.Pair); err != nil {
		return done, err
	}
	return done, NoteSeen(ctx, p, batch, r)
}

// WithdrawByHand asks a host now and then until it takes a key no more, which a person took
// away on its page. A patience of 0 asks once.
func WithdrawByHand(ctx context.Context, p site.Site, batch *workstation.Batch, pair *sshkey.Pair,
	host *describe.Description, patience time.Duration) error {
	if !batch.Dry {
		err := p.TryUntil(ctx, patience, ErrStillTaken, func(ctx context.Context) (yet, never error) {
			taken, err := Takes(ctx, p, host, pair)
			if taken {
				yet = ErrStillTaken
			}
			return yet, err
		})
		if err != nil {
			return err
		}
	}
	step := workstation.HostStep{Host: host.Name, Act: hosts.ActMiss,
		Data: map[string]string{"fingerprint": sshkey.Fingerprint(pair.Public)}}
	return batch.Act(ctx, fmt.Sprintf("See that %s no longer accepts %s.", host.Name, pair.Name()), step,
		func() (map[string]string, error) { return nil, nil })
}
