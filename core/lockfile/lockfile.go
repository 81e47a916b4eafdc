// Package lockfile lets one program at a time work on something: whoever has a lock on a file of ours (flock(2)). The
// lock ends with the process at the latest.
package lockfile

import (
	"context"
	"errors"
	"os"
	"time"

	"github.com/gofrs/flock"

	"anchorage.example/unicrux/core/regular"
)

// ErrHeld is returned when another program had the lock for as long as one waited.
var ErrHeld = errors.New("another program holds the lock")

// again is how often one looks whether a lock is free.
const again = 5 * time.Millisecond

// A Wait is how long one waits for a lock.
type Wait struct {
	Most    time.Duration   // 0 for not at all, less for no limit
	Stop    <-chan struct{} // ends the waiting; nil for nothing
	Waiting func()          // is called once when there is something to wait for; nil for nothing
}

// Take takes the lock on a file, which is made where it is not there and is no link. The error is [ErrHeld] where the
// time was over, [context.Canceled] where the waiting was stopped, or that of the file system.
func Take(path string, wait Wait) (unlock func() error, err error) {
	lock := flock.New(path, flock.SetPermissions(0o600), flock.SetFlag(os.O_CREATE|os.O_RDWR|regular.NoFollow))
	free, err := lock.TryLock()
	if err != nil {
		return nil, err
	}
	if free {
		return lock.Unlock, nil
	}
	if wait.Most == 0 {
		return nil, ErrHeld
	}
	if wait.Waiting != nil {
		wait.Waiting()
	}
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	if wait.Most > 0 {
		ctx, cancel = context.WithTimeout(ctx, wait.Most)
		defer cancel()
	}
	stopped := make(chan struct{})
	go func() {
		select {
		case <-wait.Stop:
			close(stopped)
			cancel()
		case <-ctx.Done():
		}
	}()
	if _, err := lock.TryLockContext(ctx, again); err == nil {
		return lock.Unlock, nil
	} else if ctx.Err() == nil {
		return nil, err
	}
	select {
	case <-stopped:
		return nil, context.Canceled
	default:
		return nil, ErrHeld
	}
}
