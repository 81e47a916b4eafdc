package cli

import (
	"context"
	"os"
	"os/signal"
	"sync/atomic"
	"syscall"

	"golang.org/x/term"
)

// rawTerminal is what a terminal has to be set back to while it is in raw mode; nil while none is.
var rawTerminal atomic.Pointer[func()]

// silentTerminal is the same for one that does not show what is typed; it was made so before it was made raw.
var silentTerminal atomic.Pointer[func()]

// makeRaw is [term.MakeRaw] for a terminal that is set back even when the program ends at once.
func makeRaw(fd int) (restore func(), err error) {
	before, err := term.MakeRaw(fd)
	if err != nil {
		return nil, err
	}
	set := func() { _ = term.Restore(fd, before) } // nothing is left to do about it
	rawTerminal.Store(&set)
	return func() {
		rawTerminal.Store(nil)
		set()
	}, nil
}

// untilSignal is a context that ends at the first Ctrl-C, or when the system asks the program to end.
// A second one ends the program at once, whatever it does. stopped ends the watch, and tells whether one
// came.
func untilSignal() (ctx context.Context, stopped func() bool) {
	ctx, cancel := context.WithCancel(context.Background())
	signals := make(chan os.Signal, 2)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM)
	done, ended := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(ended)
		select {
		case <-signals:
			cancel()
		case <-done:
			return
		}
		select {
		case <-signals:
			for _, terminal := range []*atomic.Pointer[func()]{&rawTerminal, &silentTerminal} {
				if restore := terminal.Load(); restore != nil {
					(*restore)()
				}
			}
			os.Exit(exitStopped)
		case <-done:
		}
	}()
	return ctx, func() bool {
		signal.Stop(signals)
		close(done)
		<-ended
		came := ctx.Err() != nil || len(signals) > 0 // it may have come just now
		cancel()
		return came
	}
}
