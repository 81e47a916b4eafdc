package sshcheck

import (
	"errors"
	"io/fs"
	"path/filepath"
	"strings"

	"anchorage.example/unicrux/core/allow"
	"anchorage.example/unicrux/core/causes"
	"anchorage.example/unicrux/core/diagnose/finding"
	"anchorage.example/unicrux/core/diagnose/seen"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/sshway"
	"anchorage.example/unicrux/core/untrusted"
)

// suspect finds what in the address and the settings would explain a break. It counts only
// when the way breaks: another key, say, may open it all the same.
func (s Settled) suspect() []finding.Suspicion {
	list := append(s.suspectAddress(), s.suspectUser()...)
	if !s.Passage.Client.KeySignIn {
		return append(list, finding.Suspect(causes.SignIn, s.noKeySignIn()))
	}
	for _, left := range s.Passage.Left {
		list = append(list, finding.Suspect(causes.SignIn, s.suspectFile(left)))
	}
	for _, key := range s.Keys {
		if key.Public == nil {
			suspect := finding.New(
				causes.KeyLocked,
				finding.Likely,
				finding.Saw(seen.Key, key.Name, s.Origin(key.Origin)),
				finding.Saw(seen.PublicKey,
					"cannot be read without the passphrase, and there is no public key file beside it", ""),
			)
			suspect.Key = key.Path
			list = append(list, finding.Suspect(causes.SignIn, suspect))
		}
		if key.Pair != nil && errors.Is(key.Pair.PublicBad, sshkey.ErrOtherKey) {
			list = append(list, finding.Suspect(causes.SignIn,
				finding.New(causes.KeyPairMismatch, finding.Proved,
					finding.Saw(seen.File, s.Station.Tilde(key.Path)+".pub", ""),
					finding.Saw(seen.ItSays, sshkey.Fingerprint(key.Pair.Beside), ""),
					finding.Saw(seen.Key, sshkey.Fingerprint(key.Pair.Public), s.Station.Tilde(key.Path)))))
		}
	}
	if len(s.offered()) == 0 {
		list = append(list, s.suspectNoKey()...)
	}
	return list
}

// noKeySignIn names the setting by which ssh signs in with no key at all.
func (s Settled) noKeySignIn() *finding.Crux {
	keyword := "PubkeyAuthentication"
	value, origin, set := s.Passage.Settings.First("preferredauthentications")
	if no, from, off := s.Passage.Settings.First("pubkeyauthentication"); off && !set || strings.EqualFold(no, "no") {
		value, origin = no, from
	} else {
		keyword = "PreferredAuthentications"
	}
	return finding.New(causes.SSHSettingHinders, finding.Proved,
		finding.Saw(seen.Setting, keyword+" "+untrusted.Clean(value), s.Origin(origin)))
}

// portLike is the path of a short form that begins as a port would.
const portLike = `^[0-9]{1,5}/.`

func (s Settled) suspectAddress() []finding.Suspicion {
	var list []finding.Suspicion
	a := s.Address
	if a.Short && a.Port == 0 && causes.Says(a.Path, portLike) {
		port, _, _ := strings.Cut(a.Path, "/")
		list = append(list, finding.Suspect(causes.Reach, finding.New(causes.URLPortInShortForm,
			finding.Likely, finding.Saw(seen.Path, a.Path, ""),
			finding.Saw(seen.Port, s.Passage.HostPort()+", not "+port, ""))))
	}
	if !strings.ContainsAny(a.Host, ".:") && allow.SameHost(s.Passage.Client.HostName, a.Host) {
		list = append(list, finding.SuspectFor(causes.NameUnknown, finding.New(causes.URLAliasUnknown, finding.Likely,
			finding.Saw(seen.ShortName, a.Host, "the URL"), finding.Saw(seen.Settings, "say nothing about it", ""))))
	}
	if a.User == "" && s.Passage.Settings.All("user") == nil && s.Question.Repo != "" {
		list = append(list, finding.Suspect(causes.SignIn,
			finding.New(causes.URLUserMissing, finding.Likely,
				finding.Saw(seen.Sent, untrusted.Clean(s.Passage.Client.User), "the login name here"))))
	}
	return list
}

func (s Settled) suspectFile(left sshway.LeftOut) *finding.Crux {
	code := causes.KeyFileUnreadable
	switch {
	case errors.Is(left.Err, fs.ErrNotExist):
		code = causes.KeyFileMissing
	case errors.Is(left.Err, sshkey.ErrPublicHalf):
		code = causes.KeyFilePublic
	case errors.Is(left.Err, sshway.ErrExposed):
		code = causes.KeyFileExposed
	}
	suspect := finding.New(
		code,
		finding.Proved,
		finding.Saw(seen.File, s.Station.Tilde(left.Path), s.Origin(left.Origin)),
	)
	suspect.Path = left.Path
	if code == causes.KeyFileUnreadable {
		suspect.Evidence = append(suspect.Evidence, finding.Saw(seen.Why, left.Err.Error(), ""))
	}
	return suspect
}

// suspectNoKey: nothing at all can be offered. Where keys are in other places, trust comes first, so that the host
// can be asked about them; likewise of a host that nobody described, since there ssh stops first.
func (s Settled) suspectNoKey() []finding.Suspicion {
	var list []finding.Suspicion
	from := causes.Trust
	if len(s.elsewhere()) > 0 || s.Undescribed() {
		from = causes.SignIn
	}
	if s.Passage.Client.Agent != "" && s.Passage.AgentErr != nil {
		origin := s.Origin(s.Passage.Client.Origin("identityagent"))
		if origin == "" {
			origin = "SSH_AUTH_SOCK"
		}
		list = append(list, finding.Suspect(from, finding.New(causes.AgentUnreachable, finding.Proved,
			finding.Saw(seen.Agent, s.Station.Tilde(s.Passage.Client.Agent), origin),
			finding.Saw(seen.KeyFiles, "none either", ""))))
	}
	if len(s.Passage.Left) == 0 && len(s.Keys) == 0 {
		list = append(list, finding.Suspect(from, s.noKey()))
	}
	return list
}

func (s Settled) noKey() *finding.Crux {
	var evidence []finding.Evidence
	folders := map[string][]string{}
	for _, identity := range s.Passage.Client.Identities {
		folder := s.Station.Tilde(filepath.Dir(identity.Path))
		if folders[folder] == nil {
			evidence = append(evidence, finding.Saw(seen.LookedIn, folder, s.Origin(identity.Origin)))
		}
		folders[folder] = append(folders[folder], filepath.Base(identity.Path))
	}
	for i, e := range evidence {
		evidence[i].Text = e.Text + " for " + strings.Join(folders[e.Text], ", ")
	}
	switch {
	case s.Passage.Client.Agent == "":
		evidence = append(evidence, finding.Saw(seen.Agent, "none", ""))
	case s.Passage.AgentErr == nil:
		evidence = append(evidence, finding.Saw(seen.Agent, "holds no key, or is locked: a locked one shows none",
			s.Station.Tilde(s.Passage.Client.Agent)))
	}
	return finding.New(causes.KeyNone, finding.Proved, evidence...)
}
