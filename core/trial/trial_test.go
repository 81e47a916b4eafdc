package trial_test

import (
	"errors"
	"strings"
	"testing"
	"time"

	"anchorage.example/unicrux/core/chest"
	"anchorage.example/unicrux/core/hostapi"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/secret"
	"anchorage.example/unicrux/core/tokens"
	"anchorage.example/unicrux/core/trial"
	"anchorage.example/unicrux/fixture"
)

// TestAPI tries what a description says: all of it works at its own host, and nothing is left behind; what is wrong
// with another description is named.
func TestAPI(t *testing.T) {
	t.Parallel()
	s := fixture.At(t, "forge")
	try := func(changes bool) map[string]trial.Trial {
		t.Helper()
		tried := map[string]trial.Trial{}
		for _, one := range trial.API(t.Context(), s.Site, s.Batch(), s.Client(s.Description, s.Owner()), changes,
			func(trial.Trial) {}) {
			tried[one.Operation] = one
		}
		return tried
	}
	before := s.Host.Passes(s.Host.Owner())
	for operation, one := range try(true) {
		if one.State == trial.Fails {
			t.Errorf("%s: %s, %v", operation, one.Message, one.Err)
		}
	}
	if got := s.Host.Passes(s.Host.Owner()); got != before {
		t.Errorf("%d tokens at the host, there were %d", got, before)
	}
	keys, err := s.Client(s.Description, s.Owner()).Keys(t.Context(), hostapi.KeyList{})
	if err != nil || len(keys) != 0 {
		t.Errorf("left behind: %+v, %v", keys, err)
	}
	broken := s.Description.Operations["list-keys"]
	broken.Path = "no/such/place"
	s.Description.Operations["list-keys"] = broken
	if one := try(false)["list-keys"]; one.State != trial.Fails || one.Err == nil {
		t.Errorf("a path that is not there: %+v", one)
	}
}

// TestToken says what a token opens: of a repository, and of none at another host.
func TestToken(t *testing.T) {
	t.Parallel()
	s := fixture.At(t, "forge")
	s.OpenChest()
	if err := hosts.SettleHTTPS(t.Context(), s.Batch(), s.Station, s.Description, "/usr/bin/unicrux"); err != nil {
		t.Fatal(err)
	}
	reads := s.Host.Issue(s.Host.Owner(), "reads", []string{"repo:read"}, time.Time{})
	e, _, err := tokens.Keep(t.Context(), s.Site, s.Batch(),
		tokens.NewToken{Host: s.Description, Secret: chest.Secret{Token: secret.New([]byte(reads))}})
	if err != nil {
		t.Fatal(err)
	}
	bound := s.Description.Bind(secret.New([]byte(reads)))
	for path, want := range map[string][2]bool{"buoys/drift-model": {true, false}, "council/minutes": {false, false}} {
		tried, err := trial.Token(t.Context(), s.Site, e, bound, s.Host.CloneHTTPS(path))
		if err != nil || tried.Reads != want[0] || tried.Writes != want[1] || tried.Writes == (tried.Refused != "") {
			t.Errorf("%s: %+v, %v", path, tried, err)
		}
	}
	if _, err := trial.Token(t.Context(), s.Site, e, bound, "https://elsewhere.example/x.git"); !errors.Is(err,
		trial.ErrElsewhere) {
		t.Errorf("another host: %v", err)
	}
	unknown := s.Description.Bind(secret.New([]byte(strings.Repeat("x", 20))))
	if _, err := trial.Token(t.Context(), s.Site, e, unknown, s.Host.CloneHTTPS("buoys/drift-model")); !errors.Is(err,
		tokens.ErrTokenUnproved) {
		t.Errorf("an unknown token: %v", err)
	}
	if tried, err := trial.Token(t.Context(), s.Site, e, bound, ""); err != nil || tried != nil {
		t.Errorf("no repository is known: %+v, %v", tried, err)
	}
}
