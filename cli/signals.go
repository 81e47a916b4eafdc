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
// A second one ends the program at once, whatever it does.
func untilSignal() (ctx context.Context, stop func()) {
	ctx, cancel := context.WithCancel(context.Background())
	signals := make(chan os.Signal, 2)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM)
	go func() {
		<-signals
		cancel()
		<-signals
		if restore := rawTerminal.Load(); restore != nil {
			(*restore)()
		}
		os.Exit(exitStopped)
	}()
	return ctx, func() {
		signal.Stop(signals)
		cancel()
	}
}
