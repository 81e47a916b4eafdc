// Package ready does the single things that make a way open: it makes a key, tells a host
// about it, trusts a host, and proves each by trying.
//
// Every change goes through the [workstation.Batch] that the caller hands over, so each
// can be shown beforehand, is recorded, and can be taken back.
package ready

import (
	"context"
	"errors"
	"time"

	"unicrux/core/address"
	"unicrux/core/gitlink"
	"unicrux/core/hosts"
	"unicrux/core/sshway"
	"unicrux/core/workstation"
)

// A Place is where the steps are taken.
type Place struct {
	Station  *workstation.Station
	Registry *hosts.Registry
	Timeout  time.Duration // for each step on the network; 0 means 10 seconds
}

// prepare settles what ssh would do for a host, with or without git.
func (p Place) prepare(ctx context.Context, a address.Address) (*sshway.Way, error) {
	config, err := gitlink.ReadConfig(ctx, p.Station)
	if err != nil && !errors.Is(err, gitlink.ErrNoGit) {
		return nil, err
	}
	return sshway.Prepare(p.Station, config, a)
}
