package trust

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strconv"

	"golang.org/x/crypto/ssh"

	"anchorage.example/unicrux/core/address"
	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/hostapi"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/knownhosts"
	"anchorage.example/unicrux/core/site"
	"anchorage.example/unicrux/core/sshfp"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/sshway"
	"anchorage.example/unicrux/core/waiting"
	"anchorage.example/unicrux/core/wire"
	"anchorage.example/unicrux/core/workstation"
)

// A Seen host is one that was asked for its key. Nothing is trusted yet: its methods compare its keys with what
// somebody says they are.
type Seen struct {
	Name string                // under which ssh looks the key up
	Host *describe.Description // nil where it is not described
	Key  ssh.PublicKey         // the one that ssh would be shown

	place   site.Site
	passage *sshway.Way
	others  []ssh.PublicKey // of further types; nil until they were asked for
}

// A Voucher is why a key of the host is the right one.
type Voucher struct {
	Key     ssh.PublicKey
	Store   []ssh.PublicKey // all keys that are known by it
	Because string          // what the key is the same as
}

// Look asks a host for its key, in the order in which ssh would. name is what a described host is called, or HOST or
// HOST:PORT for any other.
func Look(ctx context.Context, p site.Site, name string) (*Seen, error) {
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
	_ = passage.Close() // no key of the agent's is needed
	s := &Seen{Name: passage.Client.KnownHostsName, Host: description, place: p, passage: passage}
	plan := passage.Plan(func(ssh.PublicKey) error { return errors.New("not yet") }, p.Timeout)
	trip, err := wire.GoSSH(waiting.As(ctx, name), plan)
	if s.Key = trip.HostKey; s.Key == nil {
		return nil, fmt.Errorf("%s:%d: %w", plan.Host, plan.Port, err)
	}
	return s, nil
}

// hostAddress reads a described host's name, or HOST or HOST:PORT for any other.
func hostAddress(p site.Site, name string) (address.Address, *describe.Description, error) {
	if d, err := p.Registry.Find(name); err == nil {
		return d.SSHAddress(), d, nil
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

// Keys are the host's keys of all types, the one that ssh would be shown first. The host is asked once for each type.
func (s *Seen) Keys(ctx context.Context) []ssh.PublicKey {
	if s.others == nil {
		s.others = append([]ssh.PublicKey{}, wire.HostKeys(ctx, s.passage.Plan(nil, s.place.Timeout), s.Key,
			func(ssh.PublicKey) bool { return false })...)
	}
	return append([]ssh.PublicKey{s.Key}, s.others...)
}

// find looks for the right one among the host's keys. Those of further types are asked for only where the first is not.
func (s *Seen) find(ctx context.Context, right func(ssh.PublicKey) bool) (ssh.PublicKey, bool) {
	if right(s.Key) {
		return s.Key, true
	}
	all := s.Keys(ctx)
	if i := slices.IndexFunc(all, right); i >= 0 {
		return all[i], true
	}
	return nil, false
}

// Given compares the host's keys with what somebody says one of them is. The error is [sshkey.ErrClaim] where the text
// says nothing of that kind, and a *[KeyMismatch] where none of the keys is that.
func (s *Seen) Given(ctx context.Context, text string) (*Voucher, error) {
	claim, err := sshkey.ParseClaim(text)
	if err != nil {
		return nil, err
	}
	const because = "the one that you gave"
	key, found := s.find(ctx, claim.Is)
	if !found {
		return nil, &KeyMismatch{Offered: s.Keys(ctx), Wanted: claim.String(), Source: because}
	}
	return &Voucher{key, []ssh.PublicKey{key}, because}, nil
}

// Published compares the host's keys with those that its description or its API names. The error is or wraps
// [ErrUnpublished], or is a *[KeyMismatch].
func (s *Seen) Published(ctx context.Context) (*Voucher, error) {
	if s.Host == nil {
		return nil, ErrUnpublished
	}
	published, err := hostapi.Published(ctx, s.Host, s.place.Timeout)
	switch {
	case published.Any():
	case err != nil: // it may publish some
		return nil, fmt.Errorf("%w: %w", ErrUnpublished, err)
	default:
		return nil, ErrUnpublished
	}
	key, found := s.find(ctx, published.Has)
	if !found {
		return nil, &KeyMismatch{Offered: s.Keys(ctx), Wanted: published.First(), Source: published.Origin}
	}
	v := &Voucher{key, published.Keys, published.Origin}
	if !slices.ContainsFunc(v.Store, same(key)) { // only its fingerprint is known
		v.Store = append(v.Store, key)
	}
	return v, nil
}

// NameServers compares the host's keys with the records that the name servers have of them, where this computer trusts
// its resolver's word that they are authentic. It returns nil where they say nothing.
func (s *Seen) NameServers(ctx context.Context) *Voucher {
	name := s.passage.Client.HostName
	if _, err := netip.ParseAddr(name); err == nil || !sshfp.Trusted() {
		return nil
	}
	records, err := sshfp.Lookup(ctx, name)
	if err != nil || !records.Secure || !records.Any() {
		return nil
	}
	key, found := s.find(ctx, records.Match)
	if !found {
		return nil
	}
	return &Voucher{key, []ssh.PublicKey{key}, "the one that the name servers vouch for (SSHFP, DNSSEC)"}
}

// Elsewhere lists where the host's keys are trusted already under other names, or for other ports.
func (s *Seen) Elsewhere(ctx context.Context) []knownhosts.Entry {
	files := slices.Concat(s.passage.Client.KnownHosts, s.passage.Client.SystemHosts)
	return knownhosts.OfKeys(files, s.Keys(ctx))
}

// SameAs vouches by a line of known hosts: who holds a key that is trusted under another name is the same host.
func SameAs(e knownhosts.Entry) *Voucher {
	return &Voucher{e.Key, []ssh.PublicKey{e.Key}, "the one that is trusted for " + e.Hosts}
}

func same(key ssh.PublicKey) func(ssh.PublicKey) bool {
	return func(k ssh.PublicKey) bool { return bytes.Equal(k.Marshal(), key.Marshal()) }
}

// Store stores the keys that a voucher is for, for the name and port that ssh uses. The error is [ErrRevoked],
// [ErrNoFile] or that of the file.
func (s *Seen) Store(batch *workstation.Batch, v *Voucher) (*Trusted, error) {
	t := &Trusted{Key: v.Key, Name: s.Name, Because: v.Because}
	if verdict, _, _ := s.passage.Judge(v.Key); verdict == knownhosts.KeyIsBanned {
		return t, ErrRevoked
	}
	if len(s.passage.Client.KnownHosts) == 0 {
		return t, ErrNoFile
	}
	t.File = s.passage.Client.KnownHosts[0]
	changed, err := batch.Edit(t.File, fmt.Sprintf("Store the host key of %s.", s.Name), 0o600,
		func(old []byte) ([]byte, error) {
			for _, key := range v.Store {
				old = knownhosts.Add(knownhosts.Forget(old, s.Name, key), s.Name, key)
			}
			return old, nil
		})
	t.Already = !changed
	return t, err
}
