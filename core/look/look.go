// Package look tells what is on this workstation without asking anybody over the network:
// which keys are here, which hosts would be offered which of them, what is unsafe.
//
// [Here] is what callers want.
package look

import (
	"bytes"
	"context"
	"errors"
	"path/filepath"
	"slices"

	"golang.org/x/crypto/ssh"

	"anchorage.example/unicrux/core/address"
	"anchorage.example/unicrux/core/chest"
	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/find"
	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/plainsecrets"
	"anchorage.example/unicrux/core/policy"
	"anchorage.example/unicrux/core/signing"
	"anchorage.example/unicrux/core/sshconfig"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/sshway"
	"anchorage.example/unicrux/core/workstation"
)

// A View is what is here.
type View struct {
	Keys   []Key                // those of the ssh folder first, then those in odd places
	Unread []sshkey.Finding     // files of the ssh folder that hold a key and cannot be read as one
	Folder error                // why the ssh folder itself cannot be read; nil when it was
	Hosts  []Host               // described ones
	Others []Other              // that are not, and that something here names
	Agents []Agent              // the holder first
	Tokens []chest.Entry        // those in the chest, the one that ends first first
	Closed bool                 // some of them are sealed, and nothing opens the chest now
	Unsafe []Finding            // the most urgent first
	Plain  []plainsecrets.Stray // secrets for hosts in plain files
	Lends  string               // where settings lend the agent to every host; empty where they do not
}

// A Key is a pair of this home.
type Key struct {
	Pair     *sshkey.Pair
	Odd      bool // lies outside the ssh folder
	InAgent  bool
	Mentions []sshconfig.Mention // settings that point to it
	KnownAt  []string            // hosts that were told about it, or seen to take it
}

// A Host is a described host, and what ssh would do for it.
type Host struct {
	Description *describe.Description
	Trusted     bool  // a key of the host is stored
	Offers      []int // the keys that ssh would offer, as places in View.Keys, in order
	Others      int   // keys that it would offer and that are only in the agent
	Token       bool  // the chest has a token for it that has not ended
}

// A Finding is something unsafe about a key.
type Finding struct {
	Risk find.Risk
	Key  int // place in View.Keys
}

// Here looks at the workstation.
func Here(ctx context.Context, station *workstation.Station, registry *hosts.Registry) (*View, error) {
	config, err := gitlink.ReadConfig(ctx, station)
	if err != nil && !errors.Is(err, gitlink.ErrNoGit) {
		return nil, err
	}
	v := &View{}
	known, err := hosts.KnownKeys(station)
	if err != nil {
		return nil, err
	}
	mentions := find.Mentions(station)
	there, elsewhere, err := sshkey.Survey(station.Home)
	v.Folder = err
	var pairs []*sshkey.Pair
	for _, finding := range there {
		if finding.Err != nil {
			v.Unread = append(v.Unread, finding)
			continue
		}
		pairs = append(pairs, finding.Pair)
	}
	for _, pair := range append(pairs, elsewhere...) {
		key := Key{Pair: pair, Odd: filepath.Dir(pair.Path) != station.SSHDir(), Mentions: mentions[pair.Path]}
		if pair.Public != nil {
			key.KnownAt = known[sshkey.Fingerprint(pair.Public)]
		}
		v.Keys = append(v.Keys, key)
	}
	if use, signs := signing.Of(config, station); signs {
		for i, key := range v.Keys {
			if use.Leads(key.Pair) {
				v.Keys[i].Mentions = append(slices.Clone(key.Mentions),
					sshconfig.Mention{Path: key.Pair.Path, Block: "git, which signs with it",
						Origin: sshconfig.Origin{File: use.Where.Origin, Line: use.Where.Line()}})
			}
		}
	}
	v.Others = others(station, config, registry)
	asked := map[string]string{} // which agent for which host
	for _, description := range registry.All() {
		host, socket, err := v.host(station, config, description)
		if err != nil {
			return nil, err
		}
		asked[description.Name] = socket
		v.Hosts = append(v.Hosts, host)
	}
	other, err := sshway.Prepare(station, config.SSH(), address.Address{Scheme: "ssh", Host: "localhost"})
	if err != nil {
		return nil, err
	}
	if err := other.Close(); err != nil {
		return nil, err
	}
	if origin, wide := sshconfig.ForwardsToAll(other.Settings.Query); wide {
		v.Lends = origin.String()
	}
	if v.Tokens, err = tokens(station); err != nil {
		return nil, err
	}
	for i := range v.Hosts {
		v.Hosts[i].Token = slices.ContainsFunc(v.Tokens, func(e chest.Entry) bool {
			return e.At == v.Hosts[i].Description.HTTPSAt() && !e.Ended(station.Now())
		})
	}
	v.Closed = closed(chest.Of(station), v.Tokens)
	v.Plain = plainsecrets.InPlaces(station, config)
	v.meetAgents(station, asked, other.Client.Agent)
	rules, _ := policy.Read(station) // what makes a key says what is wrong with it
	v.judge(rules)
	return v, nil
}

func closed(c *chest.Chest, tokens []chest.Entry) bool {
	locked, err := c.Locked()
	if _, open := c.OpenUntil(); open || !locked || err != nil { // what is damaged is told elsewhere
		return false
	}
	return slices.ContainsFunc(tokens, func(e chest.Entry) bool { return e.Kind == chest.Sealed })
}

// tokens lists what is in the chest. A damaged file of it does not hide the others.
func tokens(station *workstation.Station) ([]chest.Entry, error) {
	list, err := chest.Of(station).List()
	if err != nil && !errors.Is(err, chest.ErrDamaged) {
		return nil, err
	}
	slices.SortStableFunc(list, func(a, b chest.Entry) int {
		if a.Until.IsZero() != b.Until.IsZero() {
			return map[bool]int{true: 1, false: -1}[a.Until.IsZero()]
		}
		return a.Until.Compare(b.Until)
	})
	return list, nil
}

// find returns the place of a key in the view, or -1.
func (v *View) find(public ssh.PublicKey) int {
	for i, key := range v.Keys {
		if key.Pair.Public != nil && bytes.Equal(key.Pair.Public.Marshal(), public.Marshal()) {
			return i
		}
	}
	return -1
}

func (v *View) host(station *workstation.Station, config *gitlink.Config,
	description *describe.Description) (host Host, socket string, err error) {
	host = Host{Description: description}
	if !description.HasSSH() {
		return host, "", nil
	}
	way, err := sshway.Prepare(station, config.SSH(), address.Address{Scheme: "ssh", Host: description.HostName(),
		User: description.SSH.User})
	if err != nil {
		return host, "", err
	}
	host.Trusted = len(way.Known.Keys)+len(way.Known.Authorities) > 0
	for _, key := range way.Keys {
		if key.Public == nil {
			continue
		}
		if i := v.find(key.Public); i >= 0 {
			host.Offers = append(host.Offers, i)
		} else {
			host.Others++
		}
	}
	return host, way.Client.Agent, way.Close()
}

// Settled tells whether ssh has a key to offer to the host and knows the host's own, or git a
// token for it.
func (h Host) Settled() bool { return h.Token || h.Trusted && len(h.Offers)+h.Others > 0 }

// judge lists what is unsafe, by risk and within a risk in the order of the keys.
func (v *View) judge(rules policy.Policy) {
	offered := map[int]bool{}
	for _, host := range v.Hosts {
		for _, i := range host.Offers {
			offered[i] = true
		}
	}
	for _, check := range []struct {
		risk  find.Risk
		holds func(i int, key Key) bool
	}{
		{find.Exposed, func(_ int, key Key) bool { return sshway.IsExposed(key.Pair.Mode) }},
		{find.Mismatched, func(_ int, key Key) bool { return errors.Is(key.Pair.PublicBad, sshkey.ErrOtherKey) }},
		{find.Weak, func(_ int, key Key) bool { return key.Pair.Public != nil && sshkey.IsWeak(key.Pair.Public) }},
		{find.Forbidden, func(_ int, key Key) bool { return forbidden(rules, key.Pair) }},
		{find.Unlocked, func(i int, key Key) bool {
			return !key.Pair.Locked && (offered[i] || !key.Pair.Alone && rules.Unlocked() != nil)
		}},
		{find.Astray, func(i int, key Key) bool { return key.Odd && !offered[i] }},
	} {
		for i, key := range v.Keys {
			if check.holds(i, key) {
				v.Unsafe = append(v.Unsafe, Finding{Risk: check.risk, Key: i})
			}
		}
	}
}

// forbidden tells whether the policy would let nobody make such a key today.
func forbidden(rules policy.Policy, pair *sshkey.Pair) bool {
	return pair.Public != nil && rules.Key(sshkey.Kind(pair.Public), sshkey.Bits(pair.Public)) != nil
}
