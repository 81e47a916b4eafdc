package signing_test

import (
	"errors"
	"path/filepath"
	"testing"

	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/signing"
	"anchorage.example/unicrux/fixture"
)

// TestOf settles with which key git signs, and why it would refuse to.
func TestOf(t *testing.T) {
	t.Parallel()
	s := fixture.At(t, "forge")
	pair, other := s.Key("mine", ""), s.Key("other", "")
	line := s.Read(".ssh", "mine.pub")
	s.Write(line, "alone.pub")
	s.Write("no key", "nonsense")
	program := s.Write("#!/bin/sh\n", "signer")
	for name, row := range map[string]struct {
		settings map[string]string
		signs    bool
		leads    bool // to the pair
		refuses  error
	}{
		"nothing": {nil, false, false, nil},
		"another format": {map[string]string{"gpg.format": "openpgp", "user.signingKey": "~/.ssh/mine"},
			false, false, nil},
		"the private file": {map[string]string{"gpg.format": "ssh", "user.signingKey": "~/.ssh/mine"},
			true, true, nil},
		"the public file": {map[string]string{"gpg.format": "SSH", "user.signingKey": "~/.ssh/mine.pub"},
			true, true, nil},
		"the key itself": {map[string]string{"gpg.format": "ssh", "user.signingKey": "key::" + line},
			true, true, signing.ErrNoPrivate},
		"the key itself, by itself": {map[string]string{"gpg.format": "ssh", "user.signingKey": line}, true, true,
			signing.ErrNoPrivate},
		"a public file alone": {map[string]string{"gpg.format": "ssh", "user.signingKey": "~/alone.pub"}, true,
			true, signing.ErrNoPrivate},
		"no file": {map[string]string{"gpg.format": "ssh", "user.signingKey": "~/.ssh/gone"}, true,
			false, signing.ErrNoFile},
		"nonsense": {map[string]string{"gpg.format": "ssh", "user.signingKey": "~/nonsense"}, true,
			false, signing.ErrUnread},
		"no key named": {map[string]string{"gpg.format": "ssh"}, true, false, signing.ErrNoKey},
		"a command that names one": {map[string]string{"gpg.format": "ssh", "gpg.ssh.defaultKeyCommand": "cat"},
			true, false, nil},
		"a program that is not there": {map[string]string{"gpg.format": "ssh", "user.signingKey": "~/.ssh/mine",
			"gpg.ssh.program": filepath.Join(s.Station.Home, "gone")}, true, true, signing.ErrProgram},
	} {
		s.Write("", ".gitconfig")
		for key, value := range row.settings {
			s.Git(s.Station.Home, "config", "--global", key, value)
		}
		if row.signs && row.settings["gpg.ssh.program"] == "" { // whichever program there is
			s.Git(s.Station.Home, "config", "--global", "gpg.ssh.program", program)
			s.Git(s.Station.Home, "config", "--global", "commit.gpgSign", "true")
		}
		config, err := gitlink.ReadConfig(t.Context(), s.Station)
		if err != nil {
			t.Fatal(err)
		}
		use, signs := signing.Of(config, s.Station)
		if signs != row.signs || use.Leads(pair) != row.leads || use.Leads(other) {
			t.Errorf("%s: signs %v, leads to it %v: %+v", name, signs, use.Leads(pair), use)
		}
		if signs && row.settings["gpg.ssh.program"] == "" && !use.Commits {
			t.Errorf("%s: each commit is signed: %+v", name, use)
		}
		if signs && name != "a program that is not there" {
			use.Program = "sh"
		}
		if got := use.Refuses(s.Station); signs && !errors.Is(got, row.refuses) {
			t.Errorf("%s: %v", name, got)
		}
	}
	if _, signs := signing.Of(nil, s.Station); signs {
		t.Error("without git")
	}
}
