package finding

import (
	"errors"
	"strings"
	"testing"
	"time"

	"anchorage.example/unicrux/core/causes"
	"anchorage.example/unicrux/core/diagnose/seen"
	"anchorage.example/unicrux/core/sshway"
)

// TestSuspect: what a suspicion explains follows from where it was met.
func TestSuspect(t *testing.T) {
	t.Parallel()
	missing := New(causes.RepositoryMissing, Proved)
	for _, row := range []struct {
		name      string
		suspicion Suspicion
		broke     *Crux
		want      causes.Code
	}{
		{"a wrong address explains what is met at the end", Suspect(causes.Reach, New(causes.URLRewritten, Proved)),
			missing, causes.URLRewritten},
		{"a wrong key does not", Suspect(causes.Reach, New(causes.KeyFileMissing, Proved)), missing,
			causes.RepositoryMissing},
		{"but that nobody could sign in", Suspect(causes.Reach, New(causes.KeyFileMissing, Proved)),
			New(causes.KeyNotRegistered, Proved), causes.KeyFileMissing},
		{"one break alone", SuspectFor(causes.KeyNotRegistered, New(causes.KeyFileMissing, Proved)),
			New(causes.KeyNotRegistered, Proved), causes.KeyFileMissing},
		{"and no other at that stage", SuspectFor(causes.KeyNotRegistered, New(causes.KeyFileMissing, Proved)),
			New(causes.KeyOtherAccount, Proved), causes.KeyOtherAccount},
	} {
		if got := First(row.broke, row.broke.Stage, []Suspicion{row.suspicion}); got.Code != row.want {
			t.Errorf("%s: %s, want %s", row.name, got.Code, row.want)
		}
	}
}

// TestParts: what stages found adds up, and a skipped stage stays skipped behind a break.
func TestParts(t *testing.T) {
	t.Parallel()
	var all, one Part
	one.Open(causes.Address, time.Second)
	one.Fact(causes.Address, "repository", "buoys/drift-model", "")
	one.Note(NewNote(causes.SettingsUnused, "forge\x1b[2J"))
	all.Add(one)
	all.Skip(causes.Repository, causes.Permission)
	w := NewWay()
	w.Add(all)
	if !w.IsOpen() || w.Stages[0].Took != time.Second || len(w.Stages[0].Facts) != 1 || len(w.Notes) != 1 {
		t.Errorf("%+v", w)
	}
	if got := w.Notes[0].Summary; !strings.Contains(got, "host show forge") || strings.Contains(got, "\x1b") {
		t.Errorf("a note says %q", got)
	}
	crux := New(causes.KeyLocked, Likely, Saw(seen.Key, "id", "~/.ssh/config line 3")).With(Saw(seen.Agent, "none", ""))
	w.BreakAt(crux)
	if w.IsOpen() || !w.Skips(causes.Repository) || w.Skips(causes.SignIn) {
		t.Errorf("%+v", w.Stages)
	}
	if len(crux.Evidence) != 2 || crux.Evidence[1] != (Evidence{seen.Agent, "none", ""}) {
		t.Errorf("%+v", crux.Evidence)
	}
}

// TestRequests: what holds where nothing was asked for.
func TestRequests(t *testing.T) {
	t.Parallel()
	if got := (Request{}).For(); got != 10*time.Second {
		t.Errorf("a step takes %v", got)
	}
	if got := (Request{Timeout: time.Second}).For(); got != time.Second {
		t.Errorf("a step takes %v", got)
	}
	if a, b := (Request{}).PurposeOr(Push), (Request{Purpose: Clone}).PurposeOr(Push); a != Push || b != Clone {
		t.Errorf("for %s, for %s", a, b)
	}
	if _, err := NobodyAsks(nil); !errors.Is(err, sshway.ErrNobody) {
		t.Error(err)
	}
	err := error(&LocalError{Path: "/tmp/\x1b]0;x"})
	if !errors.Is(err, ErrLocal) || err.Error() == "/tmp/\x1b]0;x: "+ErrLocal.Error() {
		t.Errorf("%q", err)
	}
}
