package ready

import (
	"context"
	"errors"
	"time"

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

// ByHand tries to sign in now and then until the host takes a key, which a person told it on
// its page, and then makes settings use it. A patience of 0 tries once.
func (p Place) ByHand(ctx context.Context, batch *workstation.Batch, r Registration, patience time.Duration) (*Registered, error) {
	done := &Registered{Title: r.Title}
	if batch.Dry {
		return done, p.use(ctx, batch, r.Host.SSH.Host, r.Pair)
	}
	ctx, cancel := context.WithTimeout(ctx, max(patience, p.Timeout))
	defer cancel()
	for pause := firstTry; ; pause = min(pause*3/2, lastTry) {
		err := p.Prove(ctx, r, done)
		if err == nil {
			if err := p.use(ctx, batch, r.Host.SSH.Host, r.Pair); err != nil {
				return done, err
			}
			return done, p.noteSeen(batch, r)
		}
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
