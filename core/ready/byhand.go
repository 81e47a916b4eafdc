package ready

import (
	"context"
	"errors"
	"time"

	"unicrux/core/hosts"
	"unicrux/core/secret"
	"unicrux/core/sshkey"
	"unicrux/core/workstation"
)

// Waiting for a person to paste a line on a page: the first tries come soon, later ones
// less often, so that no host takes them for an attack.
const (
	firstTry = 2 * time.Second
	lastTry  = 15 * time.Second
)

// ErrWaited is returned when the host does not take the key within the time given.
var ErrWaited = errors.New("the host does not take the key yet")

// ByHand makes settings use a key for a host, and tries to sign in now and then until the
// host takes it, which a person told it on its page. A patience of 0 tries once.
func (p Place) ByHand(ctx context.Context, batch *workstation.Batch, r Registration, patience time.Duration) (*Registered, error) {
	done := &Registered{Title: r.Title}
	if err := hosts.Settle(batch, p.Station, r.Host.SSH.Host, hosts.UseKey(p.Station, r.Pair.Path)...); err != nil || batch.Dry {
		return done, err
	}
	ctx, cancel := context.WithTimeout(ctx, max(patience, p.Timeout))
	defer cancel()
	for pause := firstTry; ; pause = min(pause*3/2, lastTry) {
		err := p.Prove(ctx, r, done)
		if !errors.Is(err, ErrUnproved) {
			return done, err
		}
		if patience == 0 {
			return done, ErrWaited
		}
		select {
		case <-ctx.Done():
			if errors.Is(ctx.Err(), context.DeadlineExceeded) {
				return done, ErrWaited
			}
			return done, ctx.Err()
		case <-time.After(pause):
		}
	}
}

// Withdraw takes a registration back that was recorded: by the host's number for it, or
// else by the key's fingerprint. One that is gone already is no error.
func (p Place) Withdraw(ctx context.Context, step workstation.HostStep, token func(*hosts.Description) (secret.Text, error)) error {
	host, err := p.Registry.Find(step.Host)
	if err != nil {
		return err
	}
	client := &hosts.Client{Description: host, Timeout: p.Timeout}
	if client.Token, err = token(host); err != nil {
		return err
	}
	id := step.Data["id"]
	if host.Can("list-keys") {
		keys, err := client.Keys(ctx)
		if err != nil {
			return err
		}
		known := false
		for _, key := range keys {
			if sshkey.Fingerprint(key.Key) == step.Data["fingerprint"] {
				id, known = key.ID, true
			}
		}
		if !known {
			return nil
		}
	}
	return client.RemoveKey(ctx, id)
}
