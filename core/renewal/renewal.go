// Package renewal puts a new key in the place of an old one everywhere, or takes one out of use everywhere: the old one
// goes last, after the new one was proved.
package renewal

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"anchorage.example/unicrux/core/agent"
	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/fault"
	"anchorage.example/unicrux/core/find"
	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/hostapi"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/keys"
	"anchorage.example/unicrux/core/registration"
	"anchorage.example/unicrux/core/site"
	"anchorage.example/unicrux/core/sshconfig"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/workstation"
)

// Reasons for which [Renew] does not renew a key, for errors.Is.
var (
	ErrNowhere = fault.New("renewal-nowhere", fault.Refused, "no host that is described here knows this key")
	ErrNoEnd   = fault.New("renewal-no-end", fault.Misused, "the old key has an end there, and none was given for the new one")
)

// A Renewal says which key is to be replaced by a new one.
type Renewal struct {
	Old      *sshkey.Pair
	Only     *describe.Description // nil for every host that knows the key
	Kind     string                // of the new one; empty for the old one's, where that is good
	Until    time.Time             // when hosts shall stop taking the new one; zero for never
	Patience time.Duration         // how long a person is waited for who tells a host by hand

	Paste func(registration.Registration) // shows the line for a host that is told by hand
	Told  func(words string)              // hears of each thing that was done
}

// Renewed says what a renewal came to.
type Renewed struct {
	New       *sshkey.Pair
	Hosts     []string            // that know the new key now, and the old one no more
	ByHand    []string            // that must be told by hand to forget the old one
	Left      []sshconfig.Mention // settings that still lead to the old one
	Default   bool                // ssh offers the old one by itself to hosts without settings
	Withdrawn bool                // the old one's files are set aside
}

// Renew makes a new pair beside the old one, registers it wherever the old one is known,
// proves it by signing in, moves the settings, and only then withdraws the old one and sets
// its files aside. Stopped anywhere, it goes on when it is run again; at every moment the
// settings lead to a key that works.
func Renew(ctx context.Context, p site.Site, batch *workstation.Batch, r Renewal,
	secrets site.Secrets) (*Renewed, error) {
	if r.Old.Public == nil {
		return nil, sshkey.ErrLocked
	}
	if err := signs(ctx, p, r.Old); err != nil {
		return nil, err
	}
	where, err := knowing(ctx, p, r.Old, r.Only)
	if err != nil {
		return nil, err
	}
	renewed := &Renewed{}
	if renewed.New, err = successor(ctx, p, batch, r, where, secrets); err != nil {
		return nil, err
	}
	for _, host := range where {
		if err := moveTo(ctx, p, batch, host, r, renewed.New, secrets); err != nil {
			return renewed, err
		}
	}
	for _, host := range where { // from here on nothing can fail that the new key is needed for
		if err := leave(ctx, p, batch, host, r, renewed, secrets); err != nil {
			return renewed, err
		}
	}
	return renewed, setAside(ctx, p, batch, r, renewed)
}

// knowing lists the described hosts that know a key: of those whose settings lead to it, and
// those that were told about it from here.
func knowing(ctx context.Context, p site.Site, pair *sshkey.Pair,
	only *describe.Description) ([]*describe.Description, error) {
	told, err := hosts.KnownKeys(p.Station)
	if err != nil {
		return nil, err
	}
	var where []*describe.Description
	for _, host := range p.Registry.All() {
		if only != nil && only.Name != host.Name || !host.HasSSH() {
			continue
		}
		u, err := keys.UseOf(ctx, p, pair, host.HostName())
		if err != nil {
			return nil, err
		}
		if only == nil && !u.Offered && !slices.Contains(told[sshkey.Fingerprint(pair.Public)], host.Name) {
			continue
		}
		takes, err := registration.Takes(ctx, p, host, pair)
		if err != nil {
			return nil, fmt.Errorf("whether it knows %s cannot be asked: %w", pair.Name(), err)
		}
		if takes {
			where = append(where, host)
		}
	}
	return where, nil
}

// successor finds the pair that an earlier run made, or makes one.
func successor(ctx context.Context, p site.Site, batch *workstation.Batch, r Renewal, where []*describe.Description,
	secrets site.Secrets) (*sshkey.Pair, error) {
	changes, err := p.Station.Changes()
	if err != nil {
		return nil, err
	}
	for _, change := range slices.Backward(changes) {
		// by the key: another may have its name by now
		if change.Undone != nil || change.About["renews"] != sshkey.Fingerprint(r.Old.Public) {
			continue
		}
		pair, err := sshkey.Load(change.About["by"])
		if err == nil {
			batch.About(change.About)
			r.Told("Going on with " + pair.Name() + ", which an earlier run made.")
			return pair, completePublic(p, batch, pair)
		}
	}
	if len(where) == 0 {
		return nil, ErrNowhere
	}
	n := keys.NewKey{Name: nextName(p, r.Old), Kind: r.kind()}
	if n.Kind == sshkey.Kind(r.Old.Public) && n.Kind != sshkey.ED25519 {
		n.Bits = sshkey.Bits(r.Old.Public)
	}
	for _, host := range where {
		if err := (registration.Registration{Host: host, Pair: r.Old, Title: "x",
			Until: r.Until}).Check(); err != nil && host.Can("add-key") && !errors.Is(err, registration.ErrObsolete) {
			return nil, err
		}
	}
	if err := n.Check(p.Station); err != nil {
		return nil, err
	}
	if !batch.Dry {
		if n.Passphrase, err = secrets.NewPassphrase(n.Name); err != nil {
			return nil, err
		}
	}
	batch.About(map[string]string{"renews": sshkey.Fingerprint(r.Old.Public), "by": p.Station.KeyPath(n.Name),
		"old": r.Old.Path})
	pair, err := keys.Make(ctx, p, batch, n)
	if err == nil {
		r.Told("Made " + pair.Name() + " beside " + r.Old.Name() + ".")
	}
	return pair, err
}

// RenewedBefore finds the renewal that set a key aside which is not here any more, and the path of the
// key in its place.
func RenewedBefore(p site.Site, old string) (change workstation.Change, by string, found bool) {
	changes, err := p.Station.Changes()
	if err != nil {
		return change, "", false
	}
	for _, change := range slices.Backward(changes) {
		if change.Undone == nil && change.About["old"] == old {
			_, err := os.Stat(change.About["by"])
			return change, change.About["by"], err == nil
		}
	}
	return change, "", false
}

// completePublic writes the public half that a run did not come to write.
func completePublic(p site.Site, batch *workstation.Batch, pair *sshkey.Pair) error {
	if pair.HasPublic || pair.Public == nil {
		return nil
	}
	pair.HasPublic, pair.Comment = true, keys.NewKey{}.CommentFor(p.Station)
	return batch.Create(pair.Path+".pub", "Write the public key beside it.", 0o644,
		[]byte(sshkey.Line(pair.Public, pair.Comment)+"\n"), false)
}

// kind is the new key's: the old one's, unless that does not hold any more or is in a device.
func (r Renewal) kind() string {
	if r.Kind != "" {
		return r.Kind
	}
	if kind := sshkey.Kind(r.Old.Public); slices.Contains(sshkey.Kinds(), kind) && !sshkey.IsWeak(r.Old.Public) {
		return kind
	}
	return sshkey.ED25519
}

// nextName is the old name with the next number that is free.
func nextName(p site.Site, old *sshkey.Pair) string {
	stem, number := old.Name(), 1
	if i := strings.LastIndexByte(stem, '_'); i > 0 {
		if n, err := strconv.ParseUint(stem[i+1:], 10, 16); err == nil {
			stem, number = stem[:i], int(n)
		}
	}
	for {
		number++
		name := fmt.Sprintf("%s_%d", stem, number)
		if _, err := os.Lstat(p.Station.KeyPath(name)); err != nil {
			return name
		}
	}
}

// moveTo makes a host know the new key, proves it, and moves the settings.
func moveTo(ctx context.Context, p site.Site, batch *workstation.Batch, host *describe.Description, r Renewal,
	pair *sshkey.Pair, secrets site.Secrets) error {
	reg := registration.Registration{Pair: pair, Host: host, Title: pair.Comment, Until: r.Until,
		Ask: secrets.Passphrase}
	if reg.Title == "" {
		reg.Title = pair.Name()
	}
	if batch.Dry {
		return errors.Join(batch.Act(ctx, fmt.Sprintf("Register %s with %s.", pair.Name(), host.Name),
			workstation.HostStep{}, nil),
			keys.SetUse(ctx, p, batch, host.HostName(), pair))
	}
	if err := holdWhere(ctx, p, host, r.Old, pair, secrets); err != nil {
		return err
	}
	if !host.Can("add-key") {
		r.Paste(reg)
		if _, err := registration.ByHand(ctx, p, batch, reg, r.Patience); err != nil {
			return err
		}
		r.Told("Signed in at " + host.Name + " with " + pair.Name() + ".")
		return nil
	}
	var err error
	if reg.Token, err = secrets.Token(host); err != nil {
		return err
	}
	if err := sameAsOld(ctx, p, &reg, r.Old); err != nil {
		return err
	}
	done, err := registration.Register(ctx, p, batch, reg)
	if err != nil {
		return err
	}
	if done.Proof != registration.SignedIn {
		return fmt.Errorf("%s: %w", pair.Name(), sshkey.ErrLocked)
	}
	r.Told(fmt.Sprintf("%s knows %s, and you signed in with it. The settings use it now.", host.Name, pair.Name()))
	return nil
}

// sameAsOld takes over what the old key may do. Its end is not guessed at.
func sameAsOld(ctx context.Context, p site.Site, reg *registration.Registration, old *sshkey.Pair) error {
	if !reg.Host.Can("list-keys") {
		return nil
	}
	client := p.Client(reg.Host, reg.Token)
	keys, err := client.Keys(ctx, hostapi.KeyList{})
	if err != nil {
		return err
	}
	known := registration.FindRegistered(keys, old.Public)
	if known == nil { // withdrawn meanwhile, or another account's
		return nil
	}
	if !known.Until.IsZero() && reg.Until.IsZero() {
		return fmt.Errorf("%s: %w", reg.Host.Name, ErrNoEnd)
	}
	if hostapi.CanTell(reg.Host, hostapi.KeyRequest{Access: known.Access}) == nil {
		reg.Access = known.Access
	}
	return nil
}

// holdWhere lets the agent that has the old key for a host hold the new one as well, before
// settings lead to it: programs that cannot ask go on working.
func holdWhere(ctx context.Context, p site.Site, host *describe.Description, old, pair *sshkey.Pair,
	secrets site.Secrets) error {
	if !pair.Locked {
		return nil
	}
	u, err := keys.UseOf(ctx, p, old, host.HostName())
	if err != nil {
		return err
	}
	socket := u.Socket
	if u.Ours {
		socket = p.Station.HolderSocket()
	}
	if socket == "" || HeldAt(p, socket, pair) {
		return nil
	}
	passphrase, err := secrets.Passphrase(pair)
	if err != nil {
		return err
	}
	private, err := pair.Raw(passphrase)
	if err != nil {
		return err
	}
	return keys.Lend(ctx, p, socket, agent.Loan{Private: private, Comment: pair.Path, Lifetime: agent.WorkingDay})
}

// leave makes a host forget the old key.
func leave(ctx context.Context, p site.Site, batch *workstation.Batch, host *describe.Description, r Renewal,
	renewed *Renewed, secrets site.Secrets) error {
	if !host.Can("remove-key") || !host.Can("list-keys") {
		renewed.ByHand = append(renewed.ByHand, host.Name)
		return nil
	}
	if batch.Dry {
		return batch.Act(ctx, fmt.Sprintf("Withdraw %s from %s.", r.Old.Name(), host.Name), workstation.HostStep{}, nil)
	}
	token, err := secrets.Token(host)
	if err != nil {
		return err
	}
	if _, err := registration.Withdraw(ctx, p, batch, r.Old, host, hostapi.KeyList{}, token); err != nil {
		return err
	}
	renewed.Hosts = append(renewed.Hosts, host.Name)
	r.Told(fmt.Sprintf("%s no longer knows %s.", host.Name, r.Old.Name()))
	return nil
}

// setAside takes the old key out of use, unless something still leads to it.
func setAside(ctx context.Context, p site.Site, batch *workstation.Batch, r Renewal, renewed *Renewed) error {
	if !batch.Dry {
		renewed.Left = find.Mentions(p.Station)[r.Old.Path]
	}
	person := gitlink.PersonOf(p.Station)
	person.Home = p.Station.Home
	renewed.Default = sshconfig.IsDefaultKey(person, r.Old.Path)
	if r.Only != nil || len(renewed.Left) > 0 || len(renewed.ByHand) > 0 || renewed.Default {
		return nil
	}
	renewed.Withdrawn = true
	return takeOut(ctx, p, batch, r.Old)
}

// takeOut makes agents and the desktop forget a key, and sets its files aside: the private
// one last, because by that one a run that is cut short is taken up again.
func takeOut(ctx context.Context, p site.Site, batch *workstation.Batch, pair *sshkey.Pair) error {
	if !batch.Dry {
		if _, err := keys.Unload(ctx, p, pair); err != nil {
			return err
		}
		if _, err := keys.ForgetPassphrase(p, batch, pair); err != nil {
			return err
		}
	}
	for _, path := range []string{pair.Path + ".pub", pair.Path} {
		if err := batch.SetAside(path, fmt.Sprintf("Set %s aside.", filepath.Base(path))); err != nil {
			return err
		}
	}
	return nil
}

// HeldAt tells whether an agent has a key.
func HeldAt(p site.Site, socket string, pair *sshkey.Pair) bool {
	conn, err := agent.Open(socket)
	if err != nil {
		return false
	}
	defer conn.Close() // it was only asked
	return slices.ContainsFunc(conn.Keys, func(key agent.Held) bool {
		return pair.Public != nil && string(key.Public.Marshal()) == string(pair.Public.Marshal())
	})
}

// Held tells whether the holder has a key.
func Held(p site.Site, pair *sshkey.Pair) bool { return HeldAt(p, p.Station.HolderSocket(), pair) }
