package sshcheck

import (
	"bytes"
	"context"
	"errors"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/crypto/ssh"

	"anchorage.example/unicrux/core/diagnose/finding"
	"anchorage.example/unicrux/core/diagnose/seen"
	"anchorage.example/unicrux/core/sshconfig"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/sshway"
	"anchorage.example/unicrux/core/untrusted"
	"anchorage.example/unicrux/core/wire"
)

// holdBack is the same without the keys with which settings let the client make no signature: because of their type, or
// because they are RSA keys that are too short.
func (s Settled) holdBack() Settled {
	if value, origin, set := s.Passage.Settings.First("requiredrsasize"); set {
		least, err := strconv.Atoi(value)
		s = s.hold(func(key sshway.Key) bool {
			return err != nil || key.Public == nil || sshkey.Kind(key.Public) != sshkey.RSA ||
				sshkey.Bits(key.Public) >= least
		}, finding.Saw(seen.Setting, "RequiredRSASize "+untrusted.Clean(value), s.Origin(origin)))
	}
	value, origin, set := s.Passage.Settings.First("pubkeyacceptedalgorithms")
	list, known := s.client().settled["pubkeyacceptedalgorithms"]
	if !set || !known {
		return s
	}
	taken := strings.Split(list, ",")
	return s.hold(func(key sshway.Key) bool { return fits(key, taken) },
		finding.Saw(seen.Setting, "PubkeyAcceptedAlgorithms "+untrusted.Clean(value), s.Origin(origin)))
}

// fits reports whether a key signs by one of some algorithms.
func fits(key sshway.Key, taken []string) bool {
	if key.Public == nil {
		return true
	}
	algorithms := []string{key.Public.Type()}
	if key.Public.Type() == ssh.KeyAlgoRSA {
		algorithms = append(algorithms, ssh.KeyAlgoRSASHA256, ssh.KeyAlgoRSASHA512)
	}
	return slices.ContainsFunc(algorithms, func(a string) bool { return slices.Contains(taken, a) })
}

// hold keeps back the keys that do not fit.
func (s Settled) hold(fits func(sshway.Key) bool, why finding.Evidence) Settled {
	var keys []sshway.Key
	for _, key := range s.Keys {
		if fits(key) {
			keys = append(keys, key)
			continue
		}
		s.unfit = append(slices.Clone(s.unfit), key.Path)
		s.Kept, s.keptBy = append(slices.Clone(s.Kept), key), []finding.Evidence{why}
	}
	s.Keys = keys
	return s
}

// oldKind tells a kind of key that was offered and that a described host says it does not take;
// all when it takes none of them.
func (s Settled) oldKind(trip *wire.Trip) (kind string, all bool) {
	if s.Host == nil || len(s.Host.Keys.Kinds) == 0 || len(trip.Offered) == 0 {
		return "", false
	}
	for _, key := range s.offered()[:len(trip.Offered)] {
		kind, _, _ = strings.Cut(strings.ToLower(sshkey.Kind(key.Public)), " ")
		if slices.Contains(s.Host.Keys.Kinds, kind) {
			return "", false
		}
	}
	return kind, true
}

// onlyDefaults tells whether no setting names any key, so none keeps one back.
func (s Settled) onlyDefaults() bool {
	return !slices.ContainsFunc(s.Passage.Client.Identities, func(i sshconfig.Identity) bool { return !i.Default })
}

// elsewhere lists pairs of this home that ssh would not offer.
func (s Settled) elsewhere() []sshway.Key {
	var keys []sshway.Key
	for _, pair := range sshkey.Search(s.Station.Home, s.Station.Folder) {
		if pair.Public == nil || s.isOffered(pair.Public) {
			continue
		}
		keys = append(keys, sshway.FromPair(pair))
	}
	return keys
}

func (s Settled) isOffered(public ssh.PublicKey) bool {
	for _, key := range s.offered() {
		if bytes.Equal(key.Public.Marshal(), public.Marshal()) {
			return true
		}
	}
	return false
}

// Hosts hang up after some keys, so only a few are asked about on one connection, and on
// a few connections.
const (
	keysAtOnce  = 4
	connections = 4
)

// errOnlyAsked keeps a key that the host knows from being used: knowing is enough.
var errOnlyAsked = errors.New("only asked")

// knownKey asks the host, of keys that were not offered, which it knows. Nobody signs in.
func (s Settled) knownKey(ctx context.Context, trip *wire.Trip, keys []sshway.Key) (sshway.Key, bool) {
	for range connections {
		batch := keys[:min(keysAtOnce, len(keys))]
		if len(batch) == 0 {
			break
		}
		keys = keys[len(batch):]
		asked := s.ask(ctx, trip, batch)
		for i, taken := range asked {
			if taken.Known {
				return batch[i], true
			}
		}
	}
	return sshway.Key{}, false
}

func (s Settled) ask(ctx context.Context, trip *wire.Trip, keys []sshway.Key) []wire.Taken {
	plan := s.Passage.Plan(func(key ssh.PublicKey) error {
		if !bytes.Equal(sshkey.Plain(key).Marshal(), trip.HostKey.Marshal()) {
			return errOnlyAsked // another host answers than a moment ago
		}
		return nil
	}, s.Request.Timeout)
	for _, key := range keys {
		plan.Offers = append(plan.Offers,
			wire.Offer{Public: key.Public, Open: func() (ssh.Signer, error) { return nil, errOnlyAsked }})
	}
	second, _ := wire.GoSSH(ctx, plan) // it ends in a refusal in any case
	return second.Offered
}

// openWith signs in with each unlocked key of this home that was not offered, and tells
// the first with which the trip serves.
func (s Settled) openWith(ctx context.Context, trip *wire.Trip, serves func(*wire.Trip) bool) (sshway.Key,
	*wire.Trip, bool) {
	candidates := slices.Concat(s.Kept, s.elsewhere())
	for i, key := range s.offered() {
		if i > trip.With {
			candidates = append(candidates, key)
		}
	}
	for _, key := range candidates[:min(len(candidates), keysAtOnce*connections)] {
		if key.Locked {
			continue
		}
		plan := s.plan(func(judgement) {})
		plan.Offers = sshway.Offers([]sshway.Key{key}, finding.NobodyAsks)
		other, _ := wire.GoSSH(ctx, plan) // a refusal is an answer too
		if other.SignedIn && serves(other) {
			return key, other, true
		}
	}
	return sshway.Key{}, nil, false
}

func keyNames(keys []sshway.Key) string {
	names := make([]string, len(keys))
	for i, key := range keys {
		names[i] = key.Name
	}
	return strings.Join(names, ", ")
}

// offered lists the keys in the order of the offers: those whose public half is known.
func (s Settled) offered() []sshway.Key {
	var keys []sshway.Key
	for _, key := range s.Keys {
		if key.Public != nil {
			keys = append(keys, key)
		}
	}
	return keys
}

// worthyKey is the key to register: the first that was offered and is not weak. On a host
// that is not described, where a person does it, a weak one is better than none.
func (s Settled) worthyKey() (key sshway.Key, found bool) {
	keys := s.offered()
	for _, key := range keys {
		if !sshkey.IsWeak(key.Public) {
			return key, true
		}
	}
	if len(keys) > 0 {
		return keys[0], false
	}
	return sshway.Key{}, false
}

func describeKey(key sshway.Key) string {
	switch {
	case key.Certificate() != nil:
		return "certificate of " + key.Name
	case key.Locked:
		return key.Name + ", locked"
	case key.InAgent:
		return key.Name + ", in the agent"
	}
	return key.Name
}
