package sshcheck_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"anchorage.example/unicrux/core/causes"
	"anchorage.example/unicrux/core/diagnose/finding"
	"anchorage.example/unicrux/core/diagnose/localcheck"
	"anchorage.example/unicrux/core/diagnose/sshcheck"
	"anchorage.example/unicrux/core/keys"
	"anchorage.example/unicrux/core/registration"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/trust"
	"anchorage.example/unicrux/fixture"
)

// went is what came of going a way.
type went struct {
	settled sshcheck.Settled
	t       sshcheck.Travelled
	part    finding.Part
	crux    *finding.Crux
	mends   []finding.Mend
}

// travel goes the way to a repository of the forge.
func travel(t *testing.T, s *fixture.Site, request finding.Request) (w went) {
	t.Helper()
	s.Reload()
	if request.Argument == "" {
		request.Argument = "git@forge.tidewater.example:buoys/drift-model.git"
	}
	request.Ask = finding.NobodyAsks
	located, err := localcheck.Locate(t.Context(), s.Station, s.Registry, request)
	if err != nil || located.Crux != nil {
		t.Fatalf("%+v, %v", located.Crux, err)
	}
	w.settled, w.part, w.crux, err = sshcheck.Settle(t.Context(), located.Located)
	defer w.settled.Close()
	if err == nil && w.crux == nil {
		var part finding.Part
		w.t, part, w.crux, err = sshcheck.Travel(t.Context(), w.settled)
		w.part.Add(part)
	}
	if err != nil {
		t.Fatal(err)
	}
	if w.crux != nil {
		w.mends = sshcheck.Mends(w.settled, w.t.Account, w.crux)
	} else {
		w.part.Add(sshcheck.Notes(w.t))
	}
	return w
}

// settle makes everything ready for the forge with a key.
func settle(t *testing.T, s *fixture.Site, passphrase string) *sshkey.Pair {
	t.Helper()
	trusted(s)
	pair := s.Key("forge_ed25519", passphrase)
	r := registration.Registration{Pair: pair, Host: s.Description, Title: "mine", Token: s.Owner(),
		Ask: s.Secrets(passphrase).Passphrase}
	if _, err := registration.Register(t.Context(), s.Site, s.Batch(), r); err != nil {
		t.Fatal(err)
	}
	return pair
}

func trusted(s *fixture.Site) {
	s.T.Helper()
	if _, err := trust.Host(s.T.Context(), s.Site, s.Batch(), "forge"); err != nil {
		s.T.Fatal(err)
	}
}

func made(s *fixture.Site) *sshkey.Pair {
	s.T.Helper()
	pair, err := keys.Make(s.T.Context(), s.Site, s.Batch(), keys.NewKey{Host: s.Description})
	if err != nil {
		s.T.Fatal(err)
	}
	return pair
}

// ours changes a line of our settings for the forge.
func ours(s *fixture.Site, keyword, value string) {
	s.T.Helper()
	text := ""
	for line := range strings.Lines(s.Read(".ssh", "unicrux.conf")) {
		if !strings.HasPrefix(strings.TrimSpace(line), keyword+" ") {
			text += line
		}
		if strings.HasPrefix(line, "Host ") && value != "" {
			text += "  " + keyword + " " + value + "\n"
		}
	}
	s.Write(text, ".ssh", "unicrux.conf")
}

// TestCruxes arranges what stops the way, and looks at the crux and at what mends it.
func TestCruxes(t *testing.T) {
	t.Parallel()
	for name, row := range map[string]struct {
		arrange   func(s *fixture.Site)
		request   finding.Request
		code      causes.Code
		certainty finding.Certainty
		act       finding.Act // of the first mend, where it is automatic; empty where it is not
	}{
		"no key": {trusted, finding.Request{}, causes.KeyNone, finding.Proved, finding.MakeKey},
		"a key nobody knows": {func(s *fixture.Site) { trusted(s); made(s) }, finding.Request{},
			causes.KeyNotRegistered, finding.Proved, finding.RegisterKey},
		"first contact": {func(s *fixture.Site) { made(s) }, finding.Request{}, causes.HostKeyUnknown,
			finding.Proved, finding.TrustHost},
		"another host key": {func(s *fixture.Site) {
			made(s)
			other := s.Key("other", "")
			s.Write(fmt.Sprintf("[127.0.0.1]:%d %s\n", s.Host.SSHPort(), sshkey.Line(other.Public, "")), ".ssh",
				"known_hosts")
		}, finding.Request{}, causes.HostKeyChanged, finding.Proved, finding.TrustHost},
		"a revoked one": {func(s *fixture.Site) {
			made(s)
			s.Write("@revoked * "+s.Host.HostKeyLine()+"\n", ".ssh", "known_hosts")
		}, finding.Request{}, causes.HostKeyRevoked, finding.Proved, ""},
		"a missing key file": {func(s *fixture.Site) { trusted(s); ours(s, "IdentityFile", "~/.ssh/gone") },
			finding.Request{}, causes.KeyFileMissing, finding.Proved, ""},
		"an exposed key file": {func(s *fixture.Site) { chmod(s, settle(s.T.(*testing.T), s, "").Path, 0o644) },
			finding.Request{}, causes.KeyFileExposed, finding.Proved, finding.Restrict},
		"a public file": {func(s *fixture.Site) {
			settle(s.T.(*testing.T), s, "")
			ours(s, "IdentityFile", "~/.ssh/forge_ed25519.pub")
		}, finding.Request{}, causes.KeyFilePublic, finding.Proved, finding.UseKey},
		"the public key of another": {func(s *fixture.Site) {
			settle(s.T.(*testing.T), s, "")
			other := s.Key("other", "")
			s.Write(sshkey.Line(other.Public, "")+"\n", ".ssh", "forge_ed25519.pub")
		}, finding.Request{}, causes.KeyPairMismatch, finding.Proved, finding.WritePublic},
		"a locked key": {func(s *fixture.Site) { settle(s.T.(*testing.T), s, "a word") }, finding.Request{},
			causes.KeyLocked, finding.Proved, ""}, // nobody can be asked for its passphrase
		"a key elsewhere": {func(s *fixture.Site) {
			pair := settle(s.T.(*testing.T), s, "")
			move(s, pair.Path, filepath.Join(s.Station.Home, "keys", "mine"))
			ours(s, "IdentityFile", "")
			ours(s, "IdentitiesOnly", "")
		}, finding.Request{}, causes.KeyElsewhere, finding.Proved, finding.UseKey},
		"a port where nobody listens": {func(s *fixture.Site) {
			settle(s.T.(*testing.T), s, "")
			ours(s, "Port",
				"1")
		}, finding.Request{}, causes.PortRefused, finding.Proved, finding.SettleHost},
		"a name that nobody knows": {func(s *fixture.Site) {
			settle(s.T.(*testing.T), s, "")
			ours(s, "HostName",
				"nowhere.invalid")
		}, finding.Request{}, causes.NameUnknown, finding.Proved, finding.SettleHost},
		"not SSH": {func(s *fixture.Site) {
			settle(s.T.(*testing.T), s, "")
			ours(s, "Port",
				fmt.Sprint(s.Host.WebPort()))
		}, finding.Request{}, causes.NotSSH, finding.Proved, finding.SettleHost},
		"no such repository": {func(s *fixture.Site) { settle(s.T.(*testing.T), s, "") },
			finding.Request{Argument: "git@forge.tidewater.example:buoys/nothing.git"}, causes.RepositoryMissing,
			finding.Proved, ""},
		"only to be read": {func(s *fixture.Site) { settle(s.T.(*testing.T), s, "") },
			finding.Request{Argument: "git@forge.tidewater.example:harbour/lamp-firmware.git", Purpose: finding.Push},
			causes.ReadOnlyAccount, finding.Proved, ""},
		"another account is needed": {func(s *fixture.Site) { settle(s.T.(*testing.T), s, "") },
			finding.Request{Account: "lab"}, causes.KeyOtherAccount, finding.Proved, ""},
		"a line that ssh refuses": {func(s *fixture.Site) {
			settle(s.T.(*testing.T), s, "")
			s.Write("Nonsense yes\n"+s.Read(".ssh", "config"), ".ssh", "config")
		}, finding.Request{}, causes.SSHConfigBroken, finding.Proved, ""},
		"settings that others write": {func(s *fixture.Site) {
			settle(s.T.(*testing.T), s, "")
			chmod(s, filepath.Join(s.Station.SSHDir(), "config"), 0o666)
		}, finding.Request{}, causes.SSHConfigExposed, finding.Proved, ""},
		"a command of another's": {func(s *fixture.Site) {
			settle(s.T.(*testing.T), s, "")
			ours(s, "RemoteCommand",
				"tmux")
		}, finding.Request{}, causes.SSHSettingHinders, finding.Proved, ""},
		"no sign-in by key": {func(s *fixture.Site) {
			settle(s.T.(*testing.T), s, "")
			ours(s,
				"PubkeyAuthentication", "no")
		}, finding.Request{}, causes.SSHSettingHinders, finding.Proved, ""},
		"a socket without a folder": {func(s *fixture.Site) {
			settle(s.T.(*testing.T), s, "")
			ours(s, "ControlPath", "~/no/such/folder/%C")
			ours(s, "ControlMaster", "auto")
		}, finding.Request{}, causes.SSHSettingHinders, finding.Proved, ""},
		"an address of another's": {func(s *fixture.Site) {
			settle(s.T.(*testing.T), s, "")
			ours(s, "BindAddress",
				"192.0.2.7")
		}, finding.Request{}, causes.SSHSettingHinders, finding.Proved, ""},
		"a program that is not there": {func(s *fixture.Site) {
			settle(s.T.(*testing.T), s, "")
			environ(s,
				"GIT_SSH_COMMAND=/no/such/program")
		}, finding.Request{}, causes.SSHCommandBroken, finding.Proved, ""},
		"a proxy that fails": {func(s *fixture.Site) {
			settle(s.T.(*testing.T), s, "")
			ours(s, "ProxyCommand", "sh -c 'echo refused >&2; exit 1'")
		}, finding.Request{}, causes.ProxyCommandFailed, finding.Proved, ""},
		"a jump host that is closed": {func(s *fixture.Site) {
			settle(s.T.(*testing.T), s, "")
			ours(s, "ProxyJump",
				"127.0.0.1:1")
		}, finding.Request{}, causes.JumpFailed, finding.Proved, ""},
		"itself as its jump host": {func(s *fixture.Site) {
			settle(s.T.(*testing.T), s, "")
			ours(s, "ProxyJump", fmt.Sprintf("127.0.0.1:%d", s.Host.SSHPort()))
		}, finding.Request{}, causes.SSHConfigBroken, finding.Proved, ""},
		"a file of revoked keys that is gone": {func(s *fixture.Site) {
			settle(s.T.(*testing.T), s, "")
			ours(s,
				"RevokedHostKeys", "~/.ssh/gone")
		}, finding.Request{}, causes.FileMissing, finding.Proved, ""},
		"an agent that is gone": {func(s *fixture.Site) {
			trusted(s)
			environ(s, "SSH_AUTH_SOCK="+filepath.Join(s.Station.Home, "gone"))
		}, finding.Request{}, causes.AgentUnreachable, finding.Proved, ""},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := fixture.At(t, "forge")
			row.arrange(s)
			w := travel(t, s, row.request)
			if w.crux == nil || w.crux.Code != row.code || w.crux.Certainty != row.certainty ||
				len(w.crux.Evidence) == 0 {
				t.Fatalf("%+v", w.crux)
			}
			act := finding.Act("")
			if len(w.mends) > 0 && w.mends[0].Automatic {
				act = w.mends[0].Action.Do
			}
			if act != row.act {
				t.Errorf("mends %+v", w.mends)
			}
			for _, mend := range w.mends {
				if mend.Automatic && len(mend.Command) == 0 {
					t.Errorf("an automatic mend without a command: %+v", mend)
				}
			}
		})
	}
}

func chmod(s *fixture.Site, path string, mode os.FileMode) {
	if err := os.Chmod(path, mode); err != nil {
		s.T.Fatal(err)
	}
}

func move(s *fixture.Site, from, to string) {
	if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
		s.T.Fatal(err)
	}
	for _, end := range []string{"", ".pub"} {
		if err := os.Rename(from+end, to+end); err != nil {
			s.T.Fatal(err)
		}
	}
}

func environ(s *fixture.Site, entry string) { s.Station.Environ = append(s.Station.Environ, entry) }

// TestOpen says who signed in and with what, and what is worth knowing.
func TestOpen(t *testing.T) {
	t.Parallel()
	s := fixture.At(t, "forge")
	pair := settle(t, s, "")
	ours(s, "ForwardAgent", "yes")
	s.Write("", ".ssh", "unused")
	w := travel(t, s, finding.Request{Purpose: finding.Push})
	if w.crux != nil || w.t.Account != s.Host.Owner() || w.t.Key != pair.Name() || !w.t.Proved || w.t.Unlocked != "" {
		t.Fatalf("%+v, %+v", w.crux, w.t)
	}
	if any, worthy := w.settled.AtHand(); !any || !worthy {
		t.Error("no worthy key at hand")
	}
	way := finding.NewWay()
	way.Add(w.part)
	notes := map[causes.Code]bool{}
	for _, note := range way.Notes {
		notes[note.Code] = true
	}
	if !notes[causes.KeyNoPassphrase] || !notes[causes.AgentForwarded] {
		t.Errorf("notes: %+v", way.Notes)
	}
	for _, stage := range way.Stages[1:] {
		if stage.State != finding.Open || len(stage.Facts) == 0 {
			t.Errorf("%+v", stage)
		}
	}
}

// TestVouched: the key of a host is stored by itself only where the host publishes that very key.
func TestVouched(t *testing.T) {
	t.Parallel()
	for published, automatic := range map[string]bool{"this one": true, "another": false, "nothing": false} {
		s := fixture.At(t, "forge")
		made(s)
		other := s.Key("other", "")
		bare := *s.Description
		delete(bare.Operations, "host-keys")
		bare.SSH.Fingerprints, bare.SSH.HostKeys = nil, nil
		switch published {
		case "this one":
			bare.SSH.Fingerprints = []string{s.Host.HostKeyPrint()}
		case "another":
			bare.SSH.Fingerprints = []string{sshkey.Fingerprint(other.Public)}
		}
		s.Registry.Hosts[0] = &bare
		located, err := localcheck.Locate(t.Context(), s.Station, s.Registry,
			finding.Request{Argument: "forge", Ask: finding.NobodyAsks})
		if err != nil {
			t.Fatal(err)
		}
		settled, _, _, err := sshcheck.Settle(t.Context(), located.Located)
		if err != nil {
			t.Fatal(err)
		}
		_, _, crux, err := sshcheck.Travel(t.Context(), settled)
		settled.Close()
		if err != nil || crux == nil {
			t.Fatalf("%s: %+v, %v", published, crux, err)
		}
		if mends := sshcheck.Mends(settled, "", crux); crux.Vouched != automatic || mends[0].Automatic != automatic {
			t.Errorf("%s: %v, %+v", published, crux.Code, mends)
		}
	}
}

// TestResembles: a block was meant for a host that it nearly names, and for no other.
func TestResembles(t *testing.T) {
	t.Parallel()
	for block, want := range map[string]bool{"Host riverbank.example": true, "Host git.riverbank": true,
		"Host gitt.riverbank.example": true, "Host git.riverbank.example": false, "Host *.example": false,
		"Host forge.tidewater.example": false, "Match host riverbank.example": false, "": false} {
		if got := sshcheck.Resembles(block, "git.riverbank.example"); got != want {
			t.Errorf("%q: %v", block, got)
		}
	}
}
