// Package identity reads files as somebody else: root looks at the home of a person with that person's rights, so
// that the kernel refuses what she could not read herself, wherever a link leads.
package identity

import (
	"errors"
	"time"
)

// Errors of [As].
var (
	// ErrUnable is returned where the rights of another account cannot be taken: this process is not root, or the
	// platform knows no such thing.
	ErrUnable = errors.New("the rights of another account cannot be taken here")
	// ErrLate is returned where a look took longer than it may.
	ErrLate = errors.New("it took too long")
)

// A Who is an account as the kernel knows it.
type Who struct {
	UID, GID int
	Groups   []int // the further ones
}

// As does something with the file rights of an account, on a thread of its own: do must start no goroutine, nor wait
// for one, because others have the rights of this process. Where do takes longer than patience, as on a server
// of files that does not answer, the thread is left behind and the error is [ErrLate]. The rights of this process
// itself need no change, and are always had.
func As(who Who, patience time.Duration, do func()) error {
	done := make(chan error, 1)
	go func() { done <- as(who, do) }()
	timer := time.NewTimer(patience)
	defer timer.Stop()
	select {
	case err := <-done:
		return err
	case <-timer.C:
		return ErrLate
	}
}
