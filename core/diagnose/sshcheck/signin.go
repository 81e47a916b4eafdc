package sshcheck

import (
	"bytes"
	"context"
	"errors"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"anchorage.example/unicrux/core/causes"
	"anchorage.example/unicrux/core/diagnose/finding"
	"anchorage.example/unicrux/core/diagnose/localcheck"
	"anchorage.example/unicrux/core/diagnose/seen"
	"anchorage.example/unicrux/core/sshconfig"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/sshway"
	"anchorage.example/unicrux/core/suggest"
	"anchorage.example/unicrux/core/untrusted"
	"anchorage.example/unicrux/core/wire"
)

// explainSignIn names why none of the keys opened the door.
func (t Travelled) explainSignIn(ctx context.Context, failure *wire.Failure) *finding.Crux {
	keys := t.offered()
	for i, taken := range t.Trip.Offered {
		if taken.OpenErr != nil && !errors.Is(taken.OpenErr, sshkey.ErrOtherKey) {
			return t.unusable(keys[i], taken.OpenErr)
		}
	}
	evidence := t.offeredEvidence(len(t.Trip.Offered))
	if words := untrusted.Clean(t.Trip.Banner + " " + failure.Message); words != "" {
		evidence = append(evidence, finding.Saw(seen.HostSays, untrusted.Quote(words), ""))
	}
	if said := causes.Hear(t.Trip.Banner+"\n"+failure.Message, causes.SignIn, causes.Permission); !said.IsZero() {
		found := finding.New(said, finding.Likely, evidence...)
		found.Stage = causes.SignIn
		return found
	}
	switch {
	case errors.Is(failure, wire.ErrMore):
		return finding.New(
			causes.SecondStepNeeded,
			finding.Proved,
			append(
				evidence,
				finding.Saw(seen.HostRequires, untrusted.Clean(strings.Join(t.Trip.Methods, ", ")), ""),
			)...)
	case errors.Is(failure, wire.ErrNoKeySignIn):
		return finding.New(causes.SignInOtherWay, finding.Proved,
			finding.Saw(seen.HostOffers, untrusted.Clean(strings.Join(t.Trip.Methods, ", ")), ""))
	case errors.Is(failure, wire.ErrSilent):
		return finding.New(causes.PortSilent, finding.Proved,
			append(evidence, finding.Saw(seen.Port, t.Passage.HostPort(), ""))...)
	}
	cutOff := errors.Is(failure, wire.ErrHungUp) && len(t.Trip.Offered) > 0
	if errors.Is(failure, wire.ErrDenied) || cutOff {
		return t.explainDenial(ctx, evidence, cutOff)
	}
	return finding.New(causes.ConnectionClosed, finding.Proved,
		append(evidence, finding.Saw(seen.Host, t.Passage.HostPort(), ""))...)
}

// explainDenial looks whether a key that the host knows is here all the same.
func (t Travelled) explainDenial(ctx context.Context, evidence []finding.Evidence, cutOff bool) *finding.Crux {
	untried := t.offered()[len(t.Trip.Offered):]
	user := finding.Saw(seen.SigningInAs, untrusted.Clean(t.Passage.Client.User),
		t.Origin(t.Passage.Client.Origin("user")))
	broke := t.refused(append(evidence, user))
	if cutOff && len(untried) > 0 {
		broke = finding.New(causes.KeysTooMany, finding.Likely,
			append(evidence, finding.Saw(seen.NotTried, keyNames(untried), ""))...)
	}
	if unfit := slices.IndexFunc(t.Trip.Offered, func(t wire.Taken) bool { return t.Unfit }); unfit >= 0 &&
		len(untried) == 0 {
		broke = finding.New(causes.KeyKindRefused, finding.Proved,
			append(evidence, finding.Saw(seen.HeldBack,
				t.offered()[unfit].Name+": the host accepts no signature by such a key", ""))...)
	}
	if old, all := t.oldKind(t.Trip); all && len(untried) == 0 {
		broke = finding.New(causes.KeyKindRefused, finding.Proved,
			append(evidence, finding.Saw(seen.AcceptedTypes, "the host accepts only "+strings.Join(t.Host.Keys.Kinds,
				", ")+", and not "+old, "its description"))...)
	}
	if refused := t.certificateRefused(append(evidence, user)); refused != nil && len(untried) == 0 {
		broke = refused
	}
	key, found := t.knownKey(ctx, t.Trip, slices.Concat(untried, t.Kept, t.elsewhere()))
	if found && t.Host != nil && t.Host.ForAccount != "" { // the host may know it for another account
		key, _, found = t.openWith(ctx, t.Trip,
			func(other *wire.Trip) bool { return t.Host.Account(other.Greeting) == t.Host.ForAccount })
	}
	if broke.Code == causes.KeyNotRegistered && !found && len(untried) == 0 {
		if known := t.knownToGit(ctx); known != "" {
			return finding.New(causes.URLUserMissing, finding.Proved,
				append(evidence, user, finding.Saw(seen.AsGit, "the host knows the key "+known, ""))...)
		}
	}
	suspicions := t.suspicions
	if found { // then the want of a key is not what stops the way
		broke = t.foundKey(key, untried, evidence)
		suspicions = slices.DeleteFunc(slices.Clone(suspicions), func(s finding.Suspicion) bool {
			return s.Crux.Code == causes.KeyNone || s.Crux.Code == causes.AgentUnreachable
		})
	}
	picked := finding.First(broke, causes.SignIn, suspicions)
	if found && key.Path != "" {
		picked.Key = key.Path
		if picked != broke {
			picked.Evidence = append(picked.Evidence, finding.Saw(seen.Found, t.Station.Tilde(key.Path),
				"the host knows this key"))
		}
	}
	return picked
}

// knownToGit is the name of a key that the host would take from the usual user of hosts for git, where the question is
// about a repository at a host that nobody described and sent another user.
func (t Travelled) knownToGit(ctx context.Context) string {
	if !t.Undescribed() || t.Question.Repo == "" || t.Hg != nil || t.Passage.Client.User == finding.GitUser {
		return ""
	}
	asGit := *t.Passage
	client := *asGit.Client
	client.User = finding.GitUser
	asGit.Client, t.Passage = &client, &asGit
	key, _ := t.knownKey(ctx, t.Trip, t.offered())
	return key.Name
}

// refused is the crux where the host takes none of the keys. A host answers alike whether it does not know a key, or
// does not let the account sign in, or does not trust its own files: of a host that nobody described, its log alone
// tells.
func (t Travelled) refused(evidence []finding.Evidence) *finding.Crux {
	if !t.Undescribed() {
		return finding.New(causes.KeyNotRegistered, finding.Proved, evidence...)
	}
	return finding.New(causes.KeyNotRegistered, finding.Likely, append(evidence,
		finding.Saw(seen.NotKnown, "whether the host rejects the key or the account: its log shows it, around "+
			t.Station.Now().Format(time.DateTime), ""))...)
}

// foundKey names the crux when the host knows a key that was not tried.
func (t Travelled) foundKey(key sshway.Key, untried []sshway.Key, evidence []finding.Evidence) *finding.Crux {
	where := finding.Saw(seen.KeptBack, key.Name+"  "+sshkey.Fingerprint(key.Public), t.Station.Tilde(key.Path))
	if key.InAgent {
		where.Origin = "the agent"
	}
	for _, other := range untried {
		if other.Name == key.Name && bytes.Equal(other.Public.Marshal(), key.Public.Marshal()) {
			where.Name = seen.NotTried
			return finding.New(causes.KeysTooMany, finding.Proved, append(evidence, where)...)
		}
	}
	kept := slices.ContainsFunc(t.Kept, func(k sshway.Key) bool { return k.Path == key.Path })
	if named := t.namedElsewhere(key); named.Path != "" && !kept {
		where.Name = seen.Found
		return finding.New(causes.SSHConfigUnmatched, finding.Proved, append([]finding.Evidence{
			finding.Saw(seen.HostBlock, untrusted.Clean(named.Block), t.Origin(named.Origin)), where}, evidence...)...)
	}
	if key.Path != "" && !kept && (t.onlyDefaults() || filepath.Dir(key.Path) != t.Station.SSHDir()) {
		where.Name = seen.Found
		return finding.New(causes.KeyElsewhere, finding.Proved, append([]finding.Evidence{where}, evidence...)...)
	}
	if !t.Passage.Client.OnlyThose || !key.InAgent {
		evidence = append(evidence, t.keptBy...)
	}
	return finding.New(causes.KeyNotOffered, finding.Proved, append(evidence, where)...)
}

// namedElsewhere is a line of ssh's settings, in a block that does not hold for this host, that names a key; the zero
// Mention where none does. A block of another host's that is described or whose full name stands there was meant for
// that one.
func (t Travelled) namedElsewhere(key sshway.Key) sshconfig.Mention {
	if key.Path == "" {
		return sshconfig.Mention{}
	}
	for _, mention := range sshconfig.KeyFiles(t.Passage.Settings.Query) {
		if mention.Path == key.Path && resembles(mention.Block, t.Address.Host) {
			return mention
		}
	}
	return sshconfig.Mention{}
}

// resembles reports whether a block of ssh's settings, which does not hold for a host, names a part of its name, the
// name as part of a longer one, or nearly the same.
func resembles(block, host string) bool {
	names, is := strings.CutPrefix(block, "Host ")
	holds := slices.ContainsFunc(strings.Fields(names),
		func(pattern string) bool { return sshconfig.MatchPattern(host, pattern) })
	return is && !holds && slices.ContainsFunc(strings.Fields(names), func(name string) bool {
		name = strings.Trim(strings.ToLower(name), "*?!.")
		return name != "" && (partOf(name, strings.ToLower(host)) || partOf(strings.ToLower(host), name) ||
			suggest.Distance(name, strings.ToLower(host), 3) < 3)
	})
}

// partOf reports whether a name is the beginning or the end of another one, in whole labels.
func partOf(name, whole string) bool {
	return strings.HasSuffix(whole, "."+name) || strings.HasPrefix(whole, name+".")
}

// wrongAccount compares the account that the host greets with the one that was asked for.
func (t Travelled) wrongAccount(ctx context.Context) *finding.Crux {
	if t.Request.Account == "" || t.Account == "" || t.Request.Account == t.Account {
		return nil
	}
	found := finding.New(causes.KeyOtherAccount, finding.Proved, finding.Saw(seen.SignedInAs, t.Account, t.Key),
		finding.Saw(seen.Needed, t.Request.Account, ""))
	if key, _, ok := t.openWith(ctx, t.Trip,
		func(other *wire.Trip) bool { return t.Host.Account(other.Greeting) == t.Request.Account }); ok {
		found.Key = key.Path
		found.Evidence = append(found.Evidence, finding.Saw(seen.Found, key.Name+" opens "+t.Request.Account,
			t.Station.Tilde(key.Path)))
	}
	return found
}

// otherAccount looks whether another key of this home opens an account for which the
// repository is open.
func (t Travelled) otherAccount(ctx context.Context) *finding.Crux {
	key, other, ok := t.openWith(ctx, t.Trip, func(other *wire.Trip) bool { return other.Answer.Open })
	if !ok {
		return nil
	}
	evidence := []finding.Evidence{finding.Saw(seen.SignedInAs, t.nameAccount(t.Account, t.Key), t.Key)}
	account := ""
	if t.Host != nil {
		account = untrusted.Clean(t.Host.Account(other.Greeting))
	}
	found := finding.New(causes.KeyOtherAccount, finding.Proved,
		append(evidence, finding.Saw(seen.Found, key.Name+" opens "+t.nameAccount(account, "an account")+", which may",
			t.Station.Tilde(key.Path)))...)
	found.Key = key.Path
	return found
}

func (t Travelled) nameAccount(account, otherwise string) string {
	if account != "" {
		return account
	}
	return "the account of " + otherwise
}

// unusable names why a key that the host knows could not sign.
func (t Travelled) unusable(key sshway.Key, err error) *finding.Crux {
	evidence := []finding.Evidence{finding.Saw(seen.Key, key.Name+"  "+sshkey.Fingerprint(key.Public),
		t.Origin(key.Origin))}
	found := finding.New(causes.KeyFileUnreadable, finding.Proved,
		append(evidence, finding.Saw(seen.File, t.Station.Tilde(key.Path), ""))...)
	switch {
	case errors.Is(err, sshway.ErrNobody), errors.Is(err, sshkey.ErrLocked):
		if broken := localcheck.AskingFails(t.Station.Getenv("SSH_ASKPASS"),
			"environment: SSH_ASKPASS"); broken != nil &&
			t.Station.Getenv("SSH_ASKPASS_REQUIRE")+t.Station.Getenv("DISPLAY") != "" {
			broken.Key, broken.Evidence = key.Path, append(broken.Evidence, evidence...)
			return broken
		}
		found = finding.New(causes.KeyLocked, finding.Proved,
			append(evidence, finding.Saw(seen.Host, "would accept this key", ""))...)
		found.Mute = errors.Is(err, sshway.ErrNobody)
	case errors.Is(err, sshkey.ErrDevice):
		found = finding.New(causes.KeyInDevice, finding.Likely,
			append(evidence, finding.Saw(seen.Host, "would accept this key", ""))...)
	case errors.Is(err, sshkey.ErrPassphrase):
		found = finding.New(causes.PassphraseWrong, finding.Proved, evidence...)
	case errors.Is(err, fs.ErrNotExist): // only a public file was there to be offered
		_, err := sshkey.Load(key.Path)
		return t.suspectFile(sshway.LeftOut{Path: key.Path, Origin: key.Origin, Err: err})
	case key.InAgent:
		found = finding.New(causes.AgentRefused, finding.Proved,
			append(evidence, finding.Saw(seen.Agent, t.Station.Tilde(t.Passage.Client.Agent), ""))...)
	}
	found.Key = key.Path
	return found
}

func (t Travelled) offeredEvidence(made int) []finding.Evidence {
	var evidence []finding.Evidence
	for _, key := range t.offered()[:made] {
		name := key.Name
		if key.Certificate() != nil {
			name = "certificate of " + name
		}
		evidence = append(evidence, finding.Saw(seen.Offered, name+"  "+sshkey.Fingerprint(key.Public),
			t.Origin(key.Origin)))
	}
	return evidence
}
