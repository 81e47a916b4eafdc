package hostapi

import (
	"bytes"
	"context"
	"slices"
	"time"

	"golang.org/x/crypto/ssh"

	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/sshkey"
)

// A PublishedKeys list is what a host says its own keys are.
type PublishedKeys struct {
	Keys   []ssh.PublicKey
	Prints []string // fingerprints of further ones
	Origin string   // where it says so
}

// Has reports whether key is among the published ones.
func (p PublishedKeys) Has(key ssh.PublicKey) bool {
	return slices.ContainsFunc(p.Keys, func(k ssh.PublicKey) bool { return bytes.Equal(k.Marshal(), key.Marshal()) }) ||
		slices.Contains(p.Prints, sshkey.Fingerprint(key))
}

// First is the fingerprint of the first of them, for saying which was expected.
func (p PublishedKeys) First() string {
	if len(p.Keys) > 0 {
		return sshkey.Fingerprint(p.Keys[0])
	}
	return p.Prints[0]
}

// Any tells whether there are any.
func (p PublishedKeys) Any() bool { return len(p.Keys)+len(p.Prints) > 0 }

// Published gathers a host's published keys: those in its description, and those that its
// interface lists. With an error the list holds what could be had.
func Published(ctx context.Context, d *describe.Description, timeout time.Duration) (PublishedKeys, error) {
	published := PublishedKeys{Keys: d.StaticKeys(), Prints: slices.Clone(d.SSH.Fingerprints),
		Origin: "the one in the description of " + d.Name}
	if !d.Can("host-keys") {
		return published, nil
	}
	keys, prints, err := (&Client{Description: d, Timeout: timeout}).HostKeys(ctx)
	if err != nil {
		return published, err
	}
	if !published.Any() {
		published.Origin = "the one that " + d.Name + " publishes"
	}
	published.Keys, published.Prints = append(published.Keys, keys...), append(published.Prints, prints...)
	return published, nil
}
