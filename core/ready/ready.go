// Package ready does the single things that make a way open: it makes a key, tells a host
// about it, trusts a host, and proves each by trying.
//
// Every change goes through the [workstation.Batch] that the caller hands over, so each
// can be shown beforehand, is recorded, and can be taken back.
package ready

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
	"anchorage.example/unicrux/core/sshway"
	"anchorage.example/unicrux/core/workstation"
)

// A Place is where the steps are taken.
type Place struct {
	Station  *workstation.Station
	Registry *hosts.Registry
	Lookup   func() (*hosts.Registry, error) // opens the registry when there is none yet; may be nil
	Waits    func(time.Duration)             // is told before a host's wish to wait is obeyed; may be nil
	Timeout  time.Duration                   // for each step on the network; 0 means 10 seconds

	Log         *slog.Logger                // the trace; nil for none
	Program     string                      // ours, in full, for settings that start it
	StartHolder func(context.Context) error // makes sure that the holder answers
}

// prepare settles what ssh would do for a host, with or without git.
func (p Place) prepare(ctx context.Context, a address.Address) (*sshway.Way, error) {
	config, err := gitlink.ReadConfig(ctx, p.Station)
	if err != nil && !errors.Is(err, gitlink.ErrNoGit) {
		return nil, err
	}
	return sshway.Prepare(p.Station, config.SSH(), a)
}

// log returns the trace, which may lead nowhere.
func (p Place) log() *slog.Logger {
	if p.Log == nil {
		return slog.New(slog.DiscardHandler)
	}
	return p.Log
}

// Client speaks to a host's interface.
func (p Place) Client(host *describe.Description, token origin.Bound) *hostapi.Client {
	return &hostapi.Client{Description: host, Token: token, Timeout: p.Timeout, Waits: p.Waits}
}
