package workstation

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"path/filepath"
	"time"

	"github.com/gofrs/flock"
)

// Alone makes runs that do the same thing wait for each other: the second begins when the
// first has ended, and sees what it did. waiting is called once when there is something to
// wait for. There is no limit: the first may be waiting for a person.
func (s *Station) Alone(ctx context.Context, what string, waiting func()) (unlock func(), err error) {
	err = AsOwner(s.State, func() (err error) {
		unlock, err = s.alone(ctx, what, waiting)
		return err
	})
	return unlock, err
}

func (s *Station) alone(ctx context.Context, what string, waiting func()) (unlock func(), err error) {
	if _, err := makeFolder(s.State); err != nil {
		return nil, err
	}
	digest := sha256.Sum256([]byte(what)) // what may hold anything that a person types
	lock := flock.New(filepath.Join(s.State, "alone-"+hex.EncodeToString(digest[:8])), flock.SetPermissions(0o600), ownLock)
	free, err := lock.TryLock()
	if err != nil {
		return nil, err
	}
	if !free {
		waiting()
		if _, err := lock.TryLockContext(ctx, 50*time.Millisecond); err != nil {
			return nil, errors.Join(err, ctx.Err())
		}
	}
	return func() { _ = lock.Unlock() }, nil
}
