package finding

import (
	"errors"
	"fmt"
	"testing"

	"anchorage.example/unicrux/core/causes"
)

func TestFirstPicksTheEarliestThatExplains(t *testing.T) {
	broke := New(causes.KeyNotRegistered, Proved)
	for _, row := range []struct {
		name       string
		broke      *Crux
		at         causes.StageName
		suspicions []Suspicion
		want       causes.Code
	}{
		{"nothing else", broke, causes.SignIn, nil, causes.KeyNotRegistered},
		{"earlier on the way", broke, causes.SignIn,
			[]Suspicion{{New(causes.KeyFileMissing, Proved), causes.SignIn, causes.SignIn, nil}},
			causes.KeyFileMissing},
		{"the earliest of two", broke, causes.SignIn,
			[]Suspicion{{New(causes.KeyNone, Proved), causes.Trust, causes.SignIn, nil},
				{New(causes.OtherUser, Proved), causes.Reach, causes.SignIn, nil}}, causes.OtherUser},
		{"explains only later breaks", New(causes.PortRefused, Proved), causes.Reach,
			[]Suspicion{{New(causes.KeyNone, Proved), causes.Trust, causes.SignIn, nil}}, causes.PortRefused},
		{"explains only earlier breaks", New(causes.RepositoryMissing, Proved), causes.Repository,
			[]Suspicion{{New(causes.KeyNone, Proved), causes.Trust, causes.SignIn, nil}}, causes.RepositoryMissing},
		{"explains this one too", New(causes.HostKeyUnknown, Proved), causes.Trust,
			[]Suspicion{{New(causes.KeyNone, Proved), causes.Trust, causes.SignIn, nil}}, causes.KeyNone},
	} {
		if got := First(row.broke, row.at, row.suspicions); got.Code != row.want {
			t.Errorf("%s: %s, want %s", row.name, got.Code, row.want)
		}
	}
}

func TestBreakAtMarksTheLine(t *testing.T) {
	w := NewWay()
	var part Part
	part.Open(causes.Address, 1)
	part.Open(causes.Settings, 1)
	part.Open(causes.Reach, 1)
	part.Fact(causes.Trust, "host key", "x", "")
	w.Add(part)
	w.BreakAt(New(causes.KeyLocked, Proved))
	want := []State{Open, Broken, NotReached, NotReached, NotReached, NotReached, NotReached}
	for i, stage := range w.Stages {
		if stage.State != want[i] || (want[i] == NotReached && len(stage.Facts) > 0) {
			t.Errorf("%s: %+v, want %s", stage.Name, stage, want[i])
		}
	}
}

// TestMet: what is met on the network has one cause each.
func TestMet(t *testing.T) {
	seen := map[error]bool{}
	for _, row := range met {
		if seen[row.reason] || causes.StageOf(row.code) == "" {
			t.Errorf("%v: twice, or %s stops nobody", row.reason, row.code)
		}
		seen[row.reason] = true
		if got := Met(fmt.Errorf("around it: %w", row.reason), causes.Code{}); got != row.code {
			t.Errorf("%v: %v, want %v", row.reason, got, row.code)
		}
	}
	if got := Met(errors.New("else"), causes.ConnectionClosed); got != causes.ConnectionClosed {
		t.Errorf("%v", got)
	}
}
