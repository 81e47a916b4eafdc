package sshcheck

import (
	"os"
	"os/user"
	"path/filepath"

	"anchorage.example/unicrux/core/causes"
	"anchorage.example/unicrux/core/diagnose/finding"
	"anchorage.example/unicrux/core/diagnose/seen"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/knownhosts"
	"anchorage.example/unicrux/core/sshkey"
)

// suspectUser looks whether git is run by another user than the one whose keys and known hosts are meant: with the home
// of somebody else, or through sudo.
func (s Settled) suspectUser() []finding.Suspicion {
	if s.Passage.Command.Line.Config != "" || !s.Passage.Command.Clear {
		return nil
	}
	if !s.Station.SameHome() {
		return s.suspectHome()
	}
	return s.suspectSudo()
}

// suspectHome looks whether what is meant for the host is in a home that ssh does not read.
func (s Settled) suspectHome() []finding.Suspicion {
	reads := finding.Saw(seen.SSHReads, filepath.Join(s.Station.SSHHome, ".ssh", "config"),
		"the home of "+s.Station.User+" in the password database")
	git := finding.Saw(seen.GitReads, filepath.Join(s.Station.Home, ".gitconfig"), "HOME")
	if _, err := os.Stat(hosts.OurFile(s.Station)); err == nil && s.Host != nil {
		return []finding.Suspicion{
			finding.Suspect(causes.Reach, finding.New(causes.OtherUser, finding.Proved, reads, git,
				finding.Saw(seen.Settings, "for "+s.Host.Name+" are in the second", hosts.OurFile(s.Station)))),
		}
	}
	folder := filepath.Join(s.Station.Home, ".ssh")
	if _, err := os.Stat(folder); err != nil || s.isSettledIn(s.Station.SSHHome) {
		return nil
	}
	certainty := finding.Likely
	if s.isSettledIn(s.Station.Home) {
		certainty = finding.Proved
	}
	return []finding.Suspicion{finding.Suspect(causes.Trust, finding.New(causes.OtherUser, certainty, reads, git,
		finding.Saw(seen.NotUsed, folder, "")))}
}

// suspectSudo looks whether the person to whom sudo gave root's rights is settled for the host, where root is not
// (SUDO_USER in sudo(8)).
func (s Settled) suspectSudo() []finding.Suspicion {
	person := s.Station.Getenv("SUDO_USER")
	home := ""
	if found, err := user.Lookup(person); err == nil {
		home = found.HomeDir
	}
	if s.Station.UID != 0 || home == "" || home == s.Station.Home || s.isSettledIn(s.Station.Home) ||
		!s.isSettledIn(home) {
		return nil
	}
	return []finding.Suspicion{finding.Suspect(causes.Trust, finding.New(causes.OtherUser, finding.Proved,
		finding.Saw(seen.SSHReads, filepath.Join(s.Station.SSHDir(), "config"), "as "+s.Station.User),
		finding.Saw(seen.SudoWasRunBy, person, "environment: SUDO_USER"),
		finding.Saw(seen.NotUsed, filepath.Join(home, ".ssh"), "")))}
}

// isSettledIn reports whether there are keys in a home, or the host's key is known there.
func (s Settled) isSettledIn(home string) bool {
	folder := filepath.Join(home, ".ssh")
	known := knownhosts.Lookup([]string{filepath.Join(folder, "known_hosts")}, s.Passage.Client.KnownHostsName)
	if len(known.Keys) > 0 {
		return true
	}
	pairs, _ := sshkey.List(folder) // what cannot be read is not used
	for _, found := range pairs {
		if found.Pair != nil {
			return true
		}
	}
	return false
}
