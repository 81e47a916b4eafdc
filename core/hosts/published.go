package hosts

import (
	"bytes"
	"context"
	"slices"
	"time"

	"golang.org/x/crypto/ssh"
)

// A PublishedKeys list is what a host says its own keys are.
type PublishedKeys struct {
	Keys   []ssh.PublicKey
	Origin string // where it says so
}

// Has reports whether key is among the published ones.
func (p PublishedKeys) Has(key ssh.PublicKey) bool {
	return slices.ContainsFunc(p.Keys, func(k ssh.PublicKey) bool { return bytes.Equal(k.Marshal(), key.Marshal()) })
}

// Published gathers the host's published keys: those in its description, and those that
// its interface lists. With an error the list holds what could be had.
func (d *Description) Published(ctx context.Context, timeout time.Duration) (PublishedKeys, error) {
	published := PublishedKeys{Keys: d.StaticKeys(), Origin: "the one in the description of " + d.Name}
	if !d.Can("host-keys") {
		return published, nil
	}
	keys, err := (&Client{Description: d, Timeout: timeout}).HostKeys(ctx)
	if err != nil {
		return published, err
	}
	if len(published.Keys) == 0 {
		published.Origin = "the one that " + d.Name + " publishes"
	}
	published.Keys = append(published.Keys, keys...)
	return published, nil
}
