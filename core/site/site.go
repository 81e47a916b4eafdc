// Package site is what the rooms that change something here or at a host are given: the workstation, the hosts that are
// known on it, and how patient to be. It is a value; it changes nothing by itself.
package site

import (
	"context"
	"errors"
	"log/slog"
	"time"

	"anchorage.example/unicrux/core/address"
	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/hostapi"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/origin"
	"anchorage.example/unicrux/core/secret"
	"anchorage.example/unicrux/core/sshway"
	"anchorage.example/unicrux/core/workstation"
)

// A Site is where something is done.
type Site struct {
	Station  *workstation.Station
	Registry *hosts.Registry
	Waits    func(time.Duration) // is called before a host's wish to wait is obeyed; may be nil
	// is called before something is tried again, with why it was not so yet; may be nil
	Trying func(yet error, next time.Duration)
	// asks which of several things that a lookup finds is meant; nil where nobody can be asked
	Choose func(*describe.Description, string, []hostapi.Choice) (int, error)
	// gives a client an account's password, where a host wants that; nil where nobody can
	SignIn  func(*hostapi.Client) error
	Timeout time.Duration // for each step on the network; 0 means 10 seconds

	Log         *slog.Logger                // the trace; nil for none
	Program     string                      // ours, in full, for settings that start it
	StartHolder func(context.Context) error // makes sure that the holder answers
}

// Prepare settles what ssh would do for a host, with or without git.
func (s Site) Prepare(ctx context.Context, a address.Address) (*sshway.Way, error) {
	config, err := gitlink.ReadConfig(ctx, s.Station)
	if err != nil && !errors.Is(err, gitlink.ErrNoGit) {
		return nil, err
	}
	return sshway.Prepare(s.Station, config.SSH(), a)
}

// Trace is the log, which may lead nowhere.
func (s Site) Trace() *slog.Logger {
	if s.Log == nil {
		return slog.New(slog.DiscardHandler)
	}
	return s.Log
}

// Client speaks to a host's API.
func (s Site) Client(host *describe.Description, token origin.Bound) *hostapi.Client {
	return &hostapi.Client{Description: host, Token: token, Timeout: s.Timeout, Waits: s.Waits, Choose: s.Choose,
		SignIn: s.SignIn}
}

// Secrets are where a step gets what must not be kept: each is called when it is needed,
// and answers with an error when nobody can be asked.
type Secrets struct {
	NewPassphrase func(name string) (secret.Text, error)            // for a key that is made
	Passphrase    sshway.Asker                                      // of a key that is here
	Token         func(*describe.Description) (origin.Bound, error) // for a host's API, to register keys
	Issuer        func(*describe.Description) (origin.Bound, error) // for a host's API, to let it issue another one
	// forgets the tokens that were given for a host, because they were wrong
	Forget      func(*describe.Description)
	TokenToKeep func(*describe.Description) (secret.Text, error) // for the chest, made by hand
	// whether another host is meant than the one that was asked for; nil for no
	OtherHost func(asked, other string) (bool, error)
	Chest     func() error // makes the chest ready for a secret, and opens it
}

// MeansOther asks whether another host is meant than the one that was asked for. Where nobody can be asked, it is not.
func (s Secrets) MeansOther(asked, other string) (bool, error) {
	if s.OtherHost == nil {
		return false, nil
	}
	return s.OtherHost(asked, other)
}

// Waiting for a person to do something on a web page: the first tries come soon, later ones
// less often, so that no host takes them for an attack.
const (
	firstTry = 2 * time.Second
	lastTry  = 15 * time.Second
	// calmTry is the pause after a host hung up: it may count tries.
	calmTry = time.Minute
)

// ErrCalm is wrapped by a reason to try again for which a host wants to be asked less often.
var ErrCalm = errors.New("the host closed the connection, so it is asked less often")

// TryUntil tries something now and then until it is so, fails, or the time is over: then it returns waited. try returns
// why it is not so yet, or why it never will be; nothing of both where it is. A patience of 0 tries once.
func (s Site) TryUntil(ctx context.Context, patience time.Duration, waited error,
	try func(context.Context) (yet, never error)) error {
	ctx, cancel := context.WithTimeout(ctx, max(patience, s.Timeout))
	defer cancel()
	for pause := firstTry; ; pause = min(pause*3/2, lastTry) {
		yet, never := try(ctx)
		switch {
		case never != nil || yet == nil:
			return never
		case patience == 0:
			return waited
		}
		next := pause
		if errors.Is(yet, ErrCalm) {
			next = calmTry
		}
		if s.Trying != nil {
			s.Trying(yet, next)
		}
		select {
		case <-ctx.Done():
			if errors.Is(ctx.Err(), context.DeadlineExceeded) {
				return waited
			}
			return ctx.Err()
		case <-time.After(next):
		}
	}
}
