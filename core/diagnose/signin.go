package diagnose

import (
	"bytes"
	"context"
	"errors"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/crypto/ssh"

	"anchorage.example/unicrux/core/sshconfig"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/sshway"
	"anchorage.example/unicrux/core/untrusted"
	"anchorage.example/unicrux/core/wire"
)

// explainSignIn names why none of the keys opened the door.
func (c *checker) explainSignIn(ctx context.Context, failure *wire.Failure, trip *wire.Trip) *Crux {
	keys := c.offered()
	for i, taken := range trip.Offered {
		if taken.OpenErr != nil && !errors.Is(taken.OpenErr, sshkey.ErrOtherKey) {
			return c.unusable(keys[i], taken.OpenErr)
		}
	}
	evidence := c.offeredEvidence(len(trip.Offered))
	if words := untrusted.Clean(trip.Banner + " " + failure.Words); words != "" {
		evidence = append(evidence, Evidence{"host says", untrusted.Quote(words), ""})
	}
	switch {
	case errors.Is(failure, wire.ErrMore):
		return crux("second-step-needed", Proved, append(evidence, Evidence{"host wants", untrusted.Clean(strings.Join(trip.Methods, ", ")), ""})...)
	case errors.Is(failure, wire.ErrNoKeySignIn):
		return crux("sign-in-other-way", Proved, Evidence{"host offers", untrusted.Clean(strings.Join(trip.Methods, ", ")), ""})
	case errors.Is(failure, wire.ErrSilent):
		return crux("port-silent", Proved, append(evidence, Evidence{"port", c.passage.HostPort(), ""})...)
	}
	cutOff := errors.Is(failure, wire.ErrHungUp) && len(trip.Offered) > 0
	if errors.Is(failure, wire.ErrDenied) || cutOff {
		return c.explainDenial(ctx, trip, evidence, cutOff)
	}
	return crux("connection-closed", Proved, append(evidence, Evidence{"host", c.passage.HostPort(), ""})...)
}

// explainDenial looks whether a key that the host knows is here all the same.
func (c *checker) explainDenial(ctx context.Context, trip *wire.Trip, evidence []Evidence, cutOff bool) *Crux {
	untried := c.offered()[len(trip.Offered):]
	if told := meaning(untrusted.Clean(trip.Banner), SignIn, SignIn); told != "" {
		return crux(told, Likely, evidence...)
	}
	user := Evidence{"signing in", "as " + untrusted.Clean(c.passage.Client.User), c.origin(c.passage.Client.Origin("user"))}
	broke := crux("key-not-registered", Proved, append(evidence, user)...)
	if cutOff && len(untried) > 0 {
		broke = crux("keys-too-many", Likely, append(evidence, Evidence{"not tried", keyNames(untried), ""})...)
	}
	if unfit := slices.IndexFunc(trip.Offered, func(t wire.Taken) bool { return t.Unfit }); unfit >= 0 && len(untried) == 0 {
		broke = crux("key-kind-refused", Proved, append(evidence, Evidence{"held back", c.offered()[unfit].Name + ": the host takes no signature that such a key makes", ""})...)
	}
	if old, all := c.oldKind(trip); all && len(untried) == 0 {
		broke = crux("key-kind-refused", Proved, append(evidence, Evidence{"kinds", "the host takes only " + strings.Join(c.host.Keys.Kinds, ", ") + ", and not " + old, "its description"})...)
	}
	if refused := c.certificateRefused(trip, append(evidence, user)); refused != nil && len(untried) == 0 {
		broke = refused
	}
	key, found := c.knownKey(ctx, trip, slices.Concat(untried, c.passage.Kept, c.elsewhere()))
	if found && c.host != nil && c.host.ForAccount != "" { // the host may know it for another account
		key, _, found = c.openWith(ctx, trip, func(other *wire.Trip) bool { return c.host.Account(other.Greeting) == c.host.ForAccount })
	}
	suspicions := c.suspicions
	if found { // then the want of a key is not what stops the way
		broke = c.foundKey(key, untried, evidence)
		suspicions = slices.DeleteFunc(slices.Clone(suspicions), func(s suspicion) bool {
			return s.crux.Code == "key-none" || s.crux.Code == "agent-unreachable"
		})
	}
	picked := first(broke, SignIn, suspicions)
	if found && key.Path != "" {
		picked.key = key.Path
		if picked != broke {
			picked.Evidence = append(picked.Evidence, Evidence{"found", c.station.Tilde(key.Path), "the host knows this key"})
		}
	}
	return picked
}

// oldKind tells a kind of key that was offered and that a described host says it does not take;
// all when it takes none of them.
func (c *checker) oldKind(trip *wire.Trip) (kind string, all bool) {
	if c.host == nil || len(c.host.Keys.Kinds) == 0 || len(trip.Offered) == 0 {
		return "", false
	}
	for _, key := range c.offered()[:len(trip.Offered)] {
		kind, _, _ = strings.Cut(strings.ToLower(sshkey.Kind(key.Public)), " ")
		if slices.Contains(c.host.Keys.Kinds, kind) {
			return "", false
		}
	}
	return kind, true
}

// foundKey names the crux when the host knows a key that was not tried.
func (c *checker) foundKey(key sshway.Key, untried []sshway.Key, evidence []Evidence) *Crux {
	where := Evidence{"kept back", key.Name + "  " + sshkey.Fingerprint(key.Public), c.station.Tilde(key.Path)}
	if key.InAgent {
		where.Origin = "the agent"
	}
	for _, other := range untried {
		if other.Name == key.Name && bytes.Equal(other.Public.Marshal(), key.Public.Marshal()) {
			where.Label = "not tried"
			return crux("keys-too-many", Proved, append(evidence, where)...)
		}
	}
	if key.Path != "" && (c.onlyDefaults() || filepath.Dir(key.Path) != c.station.SSHDir()) {
		where.Label = "found"
		return crux("key-elsewhere", Proved, append([]Evidence{where}, evidence...)...)
	}
	if !c.passage.Client.OnlyThose || !key.InAgent {
		evidence = append(evidence, c.keptBy...)
	}
	return crux("key-not-offered", Proved, append(evidence, where)...)
}

// onlyDefaults tells whether no setting names any key, so none keeps one back.
func (c *checker) onlyDefaults() bool {
	return !slices.ContainsFunc(c.passage.Client.Identities, func(i sshconfig.Identity) bool { return !i.Default })
}

// elsewhere lists pairs of this home that ssh would not offer.
func (c *checker) elsewhere() []sshway.Key {
	var keys []sshway.Key
	for _, pair := range sshkey.Search(c.station.Home, c.station.Folder) {
		if pair.Public == nil || c.isOffered(pair.Public) {
			continue
		}
		keys = append(keys, sshway.FromPair(pair))
	}
	return keys
}

func (c *checker) isOffered(public ssh.PublicKey) bool {
	for _, key := range c.offered() {
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
func (c *checker) knownKey(ctx context.Context, trip *wire.Trip, keys []sshway.Key) (sshway.Key, bool) {
	for range connections {
		batch := keys[:min(keysAtOnce, len(keys))]
		if len(batch) == 0 {
			break
		}
		keys = keys[len(batch):]
		asked := c.ask(ctx, trip, batch)
		for i, taken := range asked {
			if taken.Known {
				return batch[i], true
			}
		}
	}
	return sshway.Key{}, false
}

func (c *checker) ask(ctx context.Context, trip *wire.Trip, keys []sshway.Key) []wire.Taken {
	plan := c.passage.Plan(func(key ssh.PublicKey) error {
		if !bytes.Equal(sshkey.Plain(key).Marshal(), trip.HostKey.Marshal()) {
			return errOnlyAsked // another host answers than a moment ago
		}
		return nil
	}, c.request.Timeout)
	for _, key := range keys {
		plan.Offers = append(plan.Offers, wire.Offer{Public: key.Public, Open: func() (ssh.Signer, error) { return nil, errOnlyAsked }})
	}
	second, _ := wire.GoSSH(ctx, plan) // it ends in a refusal in any case
	return second.Offered
}

// wrongAccount compares the account that the host greets with the one that was asked for.
func (c *checker) wrongAccount(ctx context.Context, trip *wire.Trip) *Crux {
	if c.request.Account == "" || c.way.Account == "" || c.request.Account == c.way.Account {
		return nil
	}
	found := crux("key-other-account", Proved, Evidence{"signed in as", c.way.Account, c.way.Key}, Evidence{"needed", c.request.Account, ""})
	if key, _, ok := c.openWith(ctx, trip, func(other *wire.Trip) bool { return c.host.Account(other.Greeting) == c.request.Account }); ok {
		found.key = key.Path
		found.Evidence = append(found.Evidence, Evidence{"found", key.Name + " opens " + c.request.Account, c.station.Tilde(key.Path)})
	}
	return found
}

// otherAccount looks whether another key of this home opens an account for which the
// repository is open.
func (c *checker) otherAccount(ctx context.Context, trip *wire.Trip) *Crux {
	key, other, ok := c.openWith(ctx, trip, func(other *wire.Trip) bool { return other.Answer.Open })
	if !ok {
		return nil
	}
	evidence := []Evidence{{"signed in as", c.nameAccount(c.way.Account, c.way.Key), c.way.Key}}
	account := ""
	if c.host != nil {
		account = untrusted.Clean(c.host.Account(other.Greeting))
	}
	found := crux("key-other-account", Proved, append(evidence, Evidence{"found", key.Name + " opens " + c.nameAccount(account, "an account") + ", which may", c.station.Tilde(key.Path)})...)
	found.key = key.Path
	return found
}

func (c *checker) nameAccount(account, otherwise string) string {
	if account != "" {
		return account
	}
	return "the account of " + otherwise
}

// openWith signs in with each unlocked key of this home that was not offered, and tells
// the first with which the trip serves.
func (c *checker) openWith(ctx context.Context, trip *wire.Trip, serves func(*wire.Trip) bool) (sshway.Key, *wire.Trip, bool) {
	candidates := slices.Concat(c.passage.Kept, c.elsewhere())
	for i, key := range c.offered() {
		if i > trip.With {
			candidates = append(candidates, key)
		}
	}
	for _, key := range candidates[:min(len(candidates), keysAtOnce*connections)] {
		if key.Locked {
			continue
		}
		plan := c.plan()
		plan.Offers = sshway.Offers([]sshway.Key{key}, NobodyAsks)
		other, _ := wire.GoSSH(ctx, plan) // a refusal is an answer too
		if other.SignedIn && serves(other) {
			return key, other, true
		}
	}
	return sshway.Key{}, nil, false
}

// unusable names why a key that the host knows could not sign.
func (c *checker) unusable(key sshway.Key, err error) *Crux {
	evidence := []Evidence{{"key", key.Name + "  " + sshkey.Fingerprint(key.Public), c.origin(key.Origin)}}
	found := crux("key-file-unreadable", Proved, append(evidence, Evidence{"file", c.station.Tilde(key.Path), ""})...)
	switch {
	case errors.Is(err, sshway.ErrNobody), errors.Is(err, sshkey.ErrLocked):
		if broken := askingFails(c.station.Getenv("SSH_ASKPASS"), "environment: SSH_ASKPASS"); broken != nil && c.station.Getenv("SSH_ASKPASS_REQUIRE")+c.station.Getenv("DISPLAY") != "" {
			broken.key, broken.Evidence = key.Path, append(broken.Evidence, evidence...)
			return broken
		}
		found = crux("key-locked", Proved, append(evidence, Evidence{"host", "would take this key", ""})...)
	case errors.Is(err, sshkey.ErrDevice):
		found = crux("key-in-device", Likely, append(evidence, Evidence{"host", "would take this key", ""})...)
	case errors.Is(err, sshkey.ErrPassphrase):
		found = crux("passphrase-wrong", Proved, evidence...)
	case errors.Is(err, fs.ErrNotExist): // only a public file was there to be offered
		_, err := sshkey.Load(key.Path)
		return c.suspectFile(sshway.LeftOut{Path: key.Path, Origin: key.Origin, Err: err})
	case key.InAgent:
		found = crux("agent-refused", Proved, append(evidence, Evidence{"agent", c.station.Tilde(c.passage.Client.Agent), ""})...)
	}
	found.key = key.Path
	return found
}

func (c *checker) offeredEvidence(made int) []Evidence {
	var evidence []Evidence
	for _, key := range c.offered()[:made] {
		name := key.Name
		if key.Certificate() != nil {
			name = "certificate of " + name
		}
		evidence = append(evidence, Evidence{"offered", name + "  " + sshkey.Fingerprint(key.Public), c.origin(key.Origin)})
	}
	return evidence
}

func keyNames(keys []sshway.Key) string {
	names := make([]string, len(keys))
	for i, key := range keys {
		names[i] = key.Name
	}
	return strings.Join(names, ", ")
}
