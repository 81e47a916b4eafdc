package site_test

import (
	"context"
	"errors"
	"testing"
	"time"

	"anchorage.example/unicrux/core/address"
	"anchorage.example/unicrux/core/origin"
	"anchorage.example/unicrux/core/site"
	"anchorage.example/unicrux/fixture"
)

var errWaited, errYet = errors.New("waited"), errors.New("not yet")

// TestTryUntil: a patience of nothing tries once; a person who stops is heeded, and what fails is not tried again.
func TestTryUntil(t *testing.T) {
	t.Parallel()
	broken := errors.New("broken")
	stopped, stop := context.WithCancel(t.Context())
	stop()
	for _, row := range []struct {
		name     string
		ctx      context.Context
		patience time.Duration
		timeout  time.Duration
		try      func(int) (yet, never error)
		want     error
		tries    int
	}{
		{"so at once", t.Context(), time.Hour, 0, func(int) (error, error) { return nil, nil }, nil, 1},
		{"no patience", t.Context(), 0, 5 * time.Second, func(int) (error, error) { return errYet, nil }, errWaited, 1},
		{"it fails", t.Context(), time.Hour, 0, func(int) (error, error) { return nil, broken }, broken, 1},
		{"the person stops", stopped, time.Hour, 0, func(int) (error, error) { return errYet, nil }, context.Canceled,
			1},
		{"the time is over", t.Context(), time.Millisecond, 0, func(int) (error, error) { return errYet, nil },
			errWaited, 1},
		{"so after a while", t.Context(), time.Hour, 0, func(n int) (error, error) {
			if n == 2 {
				return nil, nil
			}
			return errYet, nil
		}, nil, 2},
	} {
		t.Run(row.name, func(t *testing.T) {
			t.Parallel()
			tries := 0
			err := site.Site{Timeout: row.timeout}.TryUntil(row.ctx, row.patience, errWaited,
				func(context.Context) (error, error) { tries++; return row.try(tries) })
			if !errors.Is(err, row.want) || tries != row.tries {
				t.Errorf("%v after %d, want %v after %d", err, tries, row.want, row.tries)
			}
		})
	}
}

// TestMeansOther: where nobody can be asked, no other host is meant.
func TestMeansOther(t *testing.T) {
	t.Parallel()
	if yes, err := (site.Secrets{}).MeansOther("forge", "lantern"); yes || err != nil {
		t.Error(yes, err)
	}
	asked := ""
	yes, err := site.Secrets{OtherHost: func(a, b string) (bool, error) { asked = a + b; return true, nil }}.
		MeansOther("forge", "lantern")
	if !yes || err != nil || asked != "forgelantern" {
		t.Error(yes, err, asked)
	}
}

// TestPrepare: what ssh would do for a host is found as git finds it.
func TestPrepare(t *testing.T) {
	t.Parallel()
	s := fixture.At(t, "forge")
	s.Trace().Info("leads nowhere")
	s.Git(s.Station.Home, "config", "--global", "core.sshCommand", "ssh -o User=lab")
	where, err := address.Parse("forge.tidewater.example:buoys/drift-model.git")
	if err != nil {
		t.Fatal(err)
	}
	way, err := s.Prepare(t.Context(), where)
	if err != nil {
		t.Fatal(err)
	}
	if user, _, _ := way.Settings.First("user"); user != "lab" {
		t.Errorf("ssh would sign in as %q", user)
	}
	if client := s.Client(s.Description, origin.Bound{}); client.Description != s.Description {
		t.Errorf("%+v", client)
	}
}
