package renewal_test

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"anchorage.example/unicrux/core/registration"
	"anchorage.example/unicrux/core/renewal"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/fixture"
)

// ready is a workstation with a key that the host knows and the settings lead to.
func ready(t *testing.T, passphrase string) (*fixture.Site, *sshkey.Pair) {
	t.Helper()
	s := fixture.At(t, "forge").WithHolder()
	pair := s.Key("mine", passphrase)
	r := registration.Registration{Pair: pair, Host: s.Description, Title: "mine", Token: s.Owner(),
		Ask: s.Secrets(passphrase).Passphrase}
	if _, err := registration.Register(t.Context(), s.Site, s.Batch(), r); err != nil {
		t.Fatal(err)
	}
	return s, pair
}

func takes(t *testing.T, s *fixture.Site, pair *sshkey.Pair) bool {
	t.Helper()
	got, err := registration.Takes(t.Context(), s.Site, s.Description, pair)
	if err != nil {
		t.Fatal(err)
	}
	return got
}

// TestRenew puts a new key in the place of the old one, which goes last, with its files set aside.
func TestRenew(t *testing.T) {
	t.Parallel()
	for _, passphrase := range []string{"", "a long word"} {
		s, old := ready(t, passphrase)
		var told []string
		r := renewal.Renewal{Old: old, Told: func(words string) { told = append(told, words) }}
		renewed, err := renewal.Renew(t.Context(), s.Site, s.Batch(), r, s.Secrets(passphrase))
		if err != nil {
			t.Fatal(err)
		}
		if len(renewed.Hosts) != 1 || !renewed.Withdrawn || len(told) == 0 || renewed.New.Locked != (passphrase != "") {
			t.Errorf("%+v, told %q", renewed, told)
		}
		if takes(t, s, old) || !takes(t, s, renewed.New) {
			t.Error("the host takes the old key, or not the new one")
		}
		if ours := s.Read(".ssh", "unicrux.conf"); !strings.Contains(ours, renewed.New.Name()) ||
			strings.Contains(ours, "~/.ssh/mine\n") {
			t.Errorf("settings:\n%s", ours)
		}
		if _, err := os.Stat(old.Path); !os.IsNotExist(err) {
			t.Errorf("the old file is still in its place: %v", err)
		}
		if _, by, found := renewal.RenewedBefore(s.Site, old.Path); !found || by != renewed.New.Path {
			t.Errorf("the record does not say by which: %q, %v", by, found)
		}
	}
}

// TestOldStays: while settings of the person's own lead to the old key, its files stay where they are.
func TestOldStays(t *testing.T) {
	t.Parallel()
	s, old := ready(t, "")
	s.Write(s.Read(".ssh", "config")+"\nHost elsewhere.tidewater.example\n  IdentityFile ~/.ssh/mine\n",
		".ssh", "config")
	renewed, err := renewal.Renew(t.Context(), s.Site, s.Batch(), renewal.Renewal{Old: old, Told: func(string) {}},
		s.Secrets(""))
	if err != nil {
		t.Fatal(err)
	}
	if len(renewed.Left) != 1 || renewed.Withdrawn {
		t.Errorf("%+v", renewed)
	}
	if _, err := os.Stat(old.Path); err != nil {
		t.Errorf("settings lead to a file that is gone: %v", err)
	}
}

// TestNobodyKnows: a key that no host knows is not renewed.
func TestNobodyKnows(t *testing.T) {
	t.Parallel()
	s := fixture.At(t, "forge")
	pair := s.Key("lonely", "")
	if renewed, err := renewal.Renew(t.Context(), s.Site, s.Batch(), renewal.Renewal{Old: pair, Told: func(string) {}},
		s.Secrets("")); err == nil {
		t.Errorf("%+v", renewed)
	}
	if left, _ := filepath.Glob(filepath.Join(s.Station.SSHDir(), "*ed25519*")); len(left) != 0 {
		t.Errorf("made all the same: %v", left)
	}
}

// TestSigns: without the key with which git signs, commits could not be made any longer.
func TestSigns(t *testing.T) {
	t.Parallel()
	s, old := ready(t, "")
	s.Git(s.Station.Home, "config", "--global", "gpg.format", "ssh")
	s.Git(s.Station.Home, "config", "--global", "user.signingKey", "~/.ssh/mine.pub")
	if _, err := renewal.Renew(t.Context(), s.Site, s.Batch(), renewal.Renewal{Old: old, Told: func(string) {}},
		s.Secrets("")); !errors.Is(err, renewal.ErrSigns) {
		t.Errorf("renewed: %v", err)
	}
	if _, err := renewal.Retire(t.Context(), s.Site, s.Batch(), old, false, s.Secrets(""),
		func(string) {}); !errors.Is(err, renewal.ErrSigns) {
		t.Errorf("retired: %v", err)
	}
	if !takes(t, s, old) {
		t.Error("it was withdrawn")
	}
}

// TestRetire withdraws a key everywhere, or here alone.
func TestRetire(t *testing.T) {
	t.Parallel()
	for _, hereOnly := range []bool{true, false} {
		s, pair := ready(t, "")
		retired, err := renewal.Retire(t.Context(), s.Site, s.Batch(), pair, hereOnly, s.Secrets(""), func(string) {})
		if err != nil {
			t.Fatal(err)
		}
		if (len(retired.Hosts) == 1) == hereOnly || takes(t, s, pair) != hereOnly {
			t.Errorf("here alone %v: %+v", hereOnly, retired)
		}
		if ours := s.Read(".ssh", "unicrux.conf"); strings.Contains(ours, "mine") {
			t.Errorf("settings still lead to it:\n%s", ours)
		}
		if _, err := os.Stat(pair.Path); !os.IsNotExist(err) {
			t.Errorf("the file is still there: %v", err)
		}
	}
}
