package workstation

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"path/filepath"

	"anchorage.example/unicrux/core/lockfile"
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
	path := filepath.Join(s.State, "alone-"+hex.EncodeToString(digest[:8]))
	free, err := lockfile.Take(path, lockfile.Wait{Most: -1, Stop: ctx.Done(), Waiting: waiting})
	if err != nil {
		return nil, errors.Join(err, ctx.Err())
	}
	return func() { _ = free() }, nil // the lock ends with the process at the latest
}
