// Package trust stores the key of a host after it was compared: with a fingerprint that the person gives, or with what
// the host publishes.
package trust

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
	"strconv"

	"golang.org/x/crypto/ssh"

	"anchorage.example/unicrux/core/address"
	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/hostapi"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/knownhosts"
	"anchorage.example/unicrux/core/site"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/wire"
	"anchorage.example/unicrux/core/workstation"
)

// Reasons for which a host is not trusted, for errors.Is.
var (
	ErrUnpublished = errors.New("the host publishes no key that we know of, so there is nothing to compare with")
	ErrOtherKey    = errors.New("the host offers another key than the one it should have")
	ErrRevoked     = errors.New("the host offers a key that is marked here as revoked")
	ErrNoFile      = errors.New("settings name no file in which host keys are stored")
)

// Trusted says which key is trusted now, and why.
type Trusted struct {
	Key     ssh.PublicKey // the one that was compared
	Name    string        // under which ssh looks it up
	Because string        // what it was compared with
	File    string        // where it is stored
	Already bool          // it was stored before
}

// A KeyMismatch holds what was offered and what it was compared with.
type KeyMismatch struct {
	Offered []ssh.PublicKey // all that the host has, as far as it could be asked
	Wanted  string          // fingerprint
	Source  string          // who says so
}

func (e *KeyMismatch) Error() string { return ErrOtherKey.Error() }

// Unwrap returns [ErrOtherKey].
func (e *KeyMismatch) Unwrap() error { return ErrOtherKey }

// Host asks a host for its key, compares it with the fingerprint, or else with what the
// host publishes, and stores it for the name and port that ssh uses. With
// [ErrUnpublished] the result holds the key that was offered, and nothing is stored.
func Host(ctx context.Context, p site.Site, batch *workstation.Batch, name, fingerprint string) (*Trusted, error) {
	a, description, err := hostAddress(p, name)
	if err == nil && description != nil && !description.HasSSH() {
		err = fmt.Errorf("%s: %w", description.Name, hosts.ErrNoSSH)
	}
	if err != nil {
		return nil, err
	}
	passage, err := p.Prepare(ctx, a)
	if err != nil {
		return nil, err
	}
	defer passage.Close() // nothing of the agent's is ours to lose
	key, err := offeredKey(ctx, p, passage.Plan(func(ssh.PublicKey) error { return errors.New("not yet") }, p.Timeout))
	if err != nil {
		return nil, err
	}
	result := &Trusted{Key: key, Name: passage.Client.KnownHostsName}
	others := func(wanted func(ssh.PublicKey) bool) []ssh.PublicKey {
		return wire.HostKeys(ctx, passage.Plan(nil, p.Timeout), key, wanted)
	}
	keys, err := compare(ctx, p, result, description, fingerprint, others)
	if verdict, _, _ := passage.Judge(result.Key); verdict == knownhosts.KeyIsBanned {
		err = ErrRevoked
	}
	if err != nil {
		return result, err
	}
	if len(passage.Client.KnownHosts) == 0 {
		return result, ErrNoFile
	}
	result.File = passage.Client.KnownHosts[0]
	changed, err := batch.Edit(result.File, fmt.Sprintf("Store the host key of %s.", result.Name), 0o600,
		func(old []byte) ([]byte, error) {
			for _, key := range keys {
				old = knownhosts.Add(knownhosts.Forget(old, result.Name, key), result.Name, key)
			}
			return old, nil
		})
	result.Already = !changed
	return result, err
}

// hostAddress reads a described host's name, or HOST or HOST:PORT for any other.
func hostAddress(p site.Site, name string) (address.Address, *describe.Description, error) {
	if d, err := p.Registry.Find(name); err == nil {
		return address.Address{Scheme: "ssh", Host: d.HostName()}, d, nil
	}
	a := address.Address{Scheme: "ssh", Host: name}
	if host, port, err := net.SplitHostPort(name); err == nil {
		number, err := strconv.ParseUint(port, 10, 16)
		if err != nil {
			return a, nil, fmt.Errorf("%s: %w", name, address.ErrPort)
		}
		a.Host, a.Port = host, uint16(number)
	}
	// Only to have the host checked by the one parser of addresses.
	if _, err := address.Parse("ssh://" + net.JoinHostPort(a.Host, "22") + "/x"); err != nil &&
		net.ParseIP(a.Host) == nil {
		return a, nil, fmt.Errorf("%s: %w", name, hosts.ErrUnknown)
	}
	return a, nil, nil
}

func offeredKey(ctx context.Context, p site.Site, plan wire.Plan) (ssh.PublicKey, error) {
	trip, err := wire.GoSSH(ctx, plan)
	if trip.HostKey != nil {
		return trip.HostKey, nil
	}
	return nil, fmt.Errorf("%s:%d: %w", plan.Host, plan.Port, err)
}

// compare returns the keys to store: the one that the host has and that is the right one, and with it all
// that the host publishes. A host has keys of several types, of which a fingerprint or a description may
// name any: others asks for those that were not offered, before the host is suspected.
func compare(ctx context.Context, p site.Site, result *Trusted, d *describe.Description, fingerprint string,
	others func(wanted func(ssh.PublicKey) bool) []ssh.PublicKey) ([]ssh.PublicKey, error) {
	var published hostapi.PublishedKeys
	right := func(key ssh.PublicKey) bool { return sshkey.Fingerprint(key) == fingerprint }
	wanted := fingerprint
	switch {
	case fingerprint != "":
		result.Because = "the one that you gave"
	case d == nil:
		return nil, ErrUnpublished
	default:
		var err error
		published, err = hostapi.Published(ctx, d, p.Timeout)
		switch {
		case published.Any():
		case err != nil: // it may publish some
			return nil, fmt.Errorf("%w: %w", ErrUnpublished, err)
		default:
			return nil, ErrUnpublished
		}
		result.Because, wanted, right = published.Origin, published.First(), published.Has
	}
	if offered := result.Key; !right(offered) {
		all := others(right)
		i := slices.IndexFunc(all, right)
		if i < 0 {
			return nil, &KeyMismatch{Offered: append([]ssh.PublicKey{offered}, all...), Wanted: wanted,
				Source: result.Because}
		}
		result.Key = all[i]
	}
	if !slices.ContainsFunc(published.Keys,
		func(key ssh.PublicKey) bool { return bytes.Equal(key.Marshal(), result.Key.Marshal()) }) {
		published.Keys = append(published.Keys, result.Key) // only its fingerprint is known
	}
	return published.Keys, nil
}
