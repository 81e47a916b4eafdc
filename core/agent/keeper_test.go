package agent

import (
	"crypto/ed25519"
	"errors"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"
)

func newKey(t *testing.T) (ed25519.PrivateKey, ssh.PublicKey) {
	t.Helper()
	_, private, err := ed25519.GenerateKey(nil)
	if err != nil {
		t.Fatal(err)
	}
	public, err := ssh.NewPublicKey(private.Public())
	if err != nil {
		t.Fatal(err)
	}
	return private, public
}

// TestKeeperForgetsOnTime moves the clock over the end of a key.
func TestKeeperForgetsOnTime(t *testing.T) {
	t.Parallel()
	for _, row := range []struct {
		name     string
		lifetime time.Duration // as it is asked for; 0 for none
		last     time.Duration // when it is still there
	}{
		{"as asked", 90 * time.Second, 89 * time.Second},
		{"a working day when nobody says", 0, WorkingDay - time.Second},
	} {
		now := time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)
		k := NewKeeper(func() time.Time { return now }, nil)
		private, public := newKey(t)
		if err := k.Add(agent.AddedKey{PrivateKey: private, Comment: "mine", LifetimeSecs: uint32(row.lifetime / time.Second)}); err != nil {
			t.Fatal(err)
		}
		now = now.Add(row.last)
		if _, err := k.Sign(public, []byte("x")); err != nil {
			t.Errorf("%s: a second before the end: %v", row.name, err)
		}
		if k.Retire() {
			t.Errorf("%s: retired with a key in hand", row.name)
		}
		now = now.Add(2 * time.Second)
		if _, err := k.Sign(public, []byte("x")); err == nil {
			t.Errorf("%s: it signs after the end", row.name)
		}
		if list, err := k.List(); err != nil || len(list) != 0 {
			t.Errorf("%s: %d keys left, %v", row.name, len(list), err)
		}
		if !k.Retire() {
			t.Errorf("%s: it does not retire", row.name)
		}
		if err := k.Add(agent.AddedKey{PrivateKey: private}); !errors.Is(err, errRetired) {
			t.Errorf("%s: takes a key after retiring: %v", row.name, err)
		}
	}
}

// TestKeeperRefusesWhatItCannotKeep must not hold a key more freely than was asked.
func TestKeeperRefusesWhatItCannotKeep(t *testing.T) {
	t.Parallel()
	private, _ := newKey(t)
	k := NewKeeper(time.Now, nil)
	for name, key := range map[string]agent.AddedKey{
		"confirmation": {PrivateKey: private, ConfirmBeforeUse: true},
		"extension":    {PrivateKey: private, ConstraintExtensions: []agent.ConstraintExtension{{ExtensionName: "restrict@x"}}},
	} {
		if err := k.Add(key); err == nil {
			t.Errorf("%s: taken", name)
		}
	}
	if _, holds := k.Forget(); holds {
		t.Error("it holds a key that it refused")
	}
	if err := k.Lock([]byte("x")); err == nil {
		t.Error("it lets itself be locked")
	}
}

// TestKeeperReplaces gives the same key twice: the second lifetime counts.
func TestKeeperReplaces(t *testing.T) {
	t.Parallel()
	now := time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)
	k := NewKeeper(func() time.Time { return now }, nil)
	private, public := newKey(t)
	for _, seconds := range []uint32{60, 3600} {
		if err := k.Add(agent.AddedKey{PrivateKey: private, LifetimeSecs: seconds}); err != nil {
			t.Fatal(err)
		}
	}
	now = now.Add(30 * time.Minute)
	if next, holds := k.Forget(); !holds || next.Sub(now) != 30*time.Minute {
		t.Errorf("it ends at %s, %v", next, holds)
	}
	if err := k.Remove(public); err != nil {
		t.Fatal(err)
	}
	if _, holds := k.Forget(); holds {
		t.Error("still held")
	}
}
