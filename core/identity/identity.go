// Package identity reads files as somebody else: root looks at the homes of people with their rights, so that the
// kernel refuses what each could not read herself, wherever a link leads.
package identity

import (
	"context"
	"errors"
	"time"
)

// Errors of [Each].
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

// A result is what one of several looks brought.
type result[T any] struct {
	i     int
	value T
	err   error
}

// Each does something with the file rights of several accounts, one after another, on a thread of its own, and hands
// what it brings to done, in their order. do must start no goroutine, nor wait for one, because others have the rights
// of this process. Where do takes longer than patience, as on a server of files that does not answer, the thread is
// left behind with what it does, and the error is [ErrLate]. The rights of this process itself need no change, and are
// always had. The error is that of ctx.
func Each[T any](ctx context.Context, whos []Who, patience time.Duration, do func(i int) T,
	done func(i int, value T, err error)) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	timer := time.NewTimer(patience)
	defer timer.Stop()
	for next := 0; next < len(whos); {
		thread, stop := context.WithCancel(ctx)
		results := make(chan result[T], ahead)
		go onThread(thread, whos, next, do, results)
		for late := false; !late && next < len(whos); next++ {
			timer.Reset(patience)
			select {
			case r := <-results:
				done(r.i, r.value, r.err)
			case <-timer.C:
				var nothing T
				late = true
				done(next, nothing, ErrLate)
			case <-ctx.Done():
				stop()
				return ctx.Err()
			}
		}
		stop()
	}
	return nil
}

// ahead is how many results wait at most until they are taken: without any, both sides would wait for each other.
const ahead = 16

// onThread does the work from an account on, until it is stopped.
func onThread[T any](ctx context.Context, whos []Who, from int, do func(i int) T, results chan<- result[T]) {
	t := begin()
	defer t.end()
	for i := from; i < len(whos) && ctx.Err() == nil; i++ {
		r := result[T]{i: i}
		if r.err = t.as(whos[i]); r.err == nil {
			r.value = do(i)
		}
		select {
		case results <- r:
		case <-ctx.Done():
		}
	}
}
