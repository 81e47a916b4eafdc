package chest

import (
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"anchorage.example/unicrux/core/agent"
	"anchorage.example/unicrux/core/lifetime"
	"anchorage.example/unicrux/core/query"
	"anchorage.example/unicrux/core/secret"
)

func text(s string) secret.Text { return secret.New([]byte(s)) }

// held is a chest beside a running vault, with a passphrase.
func held(t testing.TB) *Chest {
	t.Helper()
	dir := t.TempDir()
	if err := os.Chmod(dir, 0o700); err != nil {
		t.Fatal(err)
	}
	c := &Chest{folder: filepath.Join(dir, "chest"), seen: filepath.Join(dir, "seen.json"),
		socket: filepath.Join(dir, "s"), work: 10}
	listener, err := net.Listen("unix", c.socket)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = listener.Close() })
	vault := NewVault(lifetime.System(nil))
	var one sync.Mutex
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close() // the client has left
				for {
					body, err := query.ReadMessage(conn)
					if err != nil {
						return
					}
					one.Lock()
					name, question, err := query.Question(body)
					var answer []byte
					if err == nil {
						answer, err = vault.Answer(name, question)
					}
					message := query.Answer(answer, err)
					one.Unlock()
					if _, err := conn.Write(message); err != nil {
						return
					}
				}
			}()
		}
	}()
	if _, err := c.Lock(t.Context(), secret.Text{}, text("seven tides")); err != nil {
		t.Fatal(err)
	}
	return c
}

func (c *Chest) again() *Chest { return &Chest{folder: c.folder, seen: c.seen, socket: c.socket} }

// TestConformance does the same with every kind that needs nothing of the desktop's; that one
// has its test beside a real desktop service.
func TestConformance(t *testing.T) {
	t.Parallel()
	for _, kind := range []Kind{Sealed, Memory} {
		c := held(t)
		conform(t, c, kind, func() {
			if kind == Sealed {
				key, err := c.Open(t.Context(), text("seven tides"))
				if err != nil {
					t.Fatal(err)
				}
				if err := c.OpenInHolder(key, time.Hour); err != nil {
					t.Fatal(err)
				}
			}
		})
	}
}

// TestOpeningAndClosing opens in the holder, for a time, and by the right passphrase only.
func TestOpeningAndClosing(t *testing.T) {
	t.Parallel()
	c := held(t)
	e := Entry{Name: "forge", Protocol: "https", At: "forge.tidewater.example", User: "ines.marlow"}
	if _, err := c.Put(e, Secret{Token: text("tide-1")}); err != nil {
		t.Fatal(err)
	}
	e, _ = c.Entry("forge")
	if _, err := c.again().Get(e); !errors.Is(err, ErrClosed) {
		t.Errorf("closed: %v", err)
	}
	if _, err := c.Open(t.Context(), text("eight tides")); !errors.Is(err, ErrWrong) {
		t.Errorf("a wrong passphrase: %v", err)
	}
	key, err := c.Open(t.Context(), text("seven tides"))
	if err != nil {
		t.Fatal(err)
	}
	if err := c.OpenInHolder(key, time.Hour); err != nil {
		t.Fatal(err)
	}
	if s, err := c.again().Get(e); err != nil || string(s.Token.Reveal()) != "tide-1" {
		t.Errorf("open: %v", err)
	}
	// What is kept in place of a secret that was read is the new one, and not what was read.
	list, err := c.again().At("https", e.At)
	if err != nil || len(list) != 1 {
		t.Fatalf("%v, %v", list, err)
	}
	list[0].Until = time.Now().Add(time.Hour)
	renewed, err := c.Put(list[0], Secret{Token: text("tide-2")})
	if s, getErr := c.again().Get(renewed); err != nil || getErr != nil || string(s.Token.Reveal()) != "tide-2" {
		t.Errorf("renewed: %v, %v, %q", err, getErr, s.Token.Reveal())
	}
	if until, open := c.OpenUntil(); !open || time.Until(until) < 50*time.Minute {
		t.Errorf("until %v, %v", until, open)
	}
	if _, err := c.Lock(t.Context(), text("seven tides"), text("nine tides")); err != nil {
		t.Fatal(err)
	}
	if _, err := c.again().Open(t.Context(), text("seven tides")); !errors.Is(err, ErrWrong) {
		t.Errorf("the old passphrase still opens: %v", err)
	}
	if !c.Close() {
		t.Error("it was not open")
	}
	if _, err := c.again().Get(e); !errors.Is(err, ErrClosed) {
		t.Errorf("closed again: %v", err)
	}
	err = filepath.WalkDir(c.folder, func(path string, entry os.DirEntry, err error) error {
		if err != nil || entry.IsDir() {
			return err
		}
		if file, _ := os.ReadFile(path); strings.Contains(string(file), "tide-1") ||
			strings.Contains(string(file), "AGE-SECRET-KEY") {
			t.Errorf("a secret stands in %s", path)
		}
		if info, _ := entry.Info(); info.Mode().Perm()&0o077 != 0 {
			t.Errorf("%s is open to others", path)
		}
		return nil
	})
	if err != nil {
		t.Error(err)
	}
}

func TestTheVaultForgetsOnTime(t *testing.T) {
	t.Parallel()
	now := time.Now()
	up := time.Hour
	v := NewVault(lifetime.Clock{Now: func() time.Time { return now }, Uptime: func() time.Duration { return up }})
	if _, err := v.Answer("another", nil); !errors.Is(err, query.ErrVersion) {
		t.Errorf("it answers anything: %v", err)
	}
	keep := func() {
		t.Helper()
		if _, err := v.Answer(keepQuestion, []byte(`{"Name":"a","Text":"eA=="}`)); err != nil {
			t.Fatal(err)
		}
		if got, err := v.Answer(giveQuestion, []byte("a")); err != nil || string(got) != "x" {
			t.Errorf("%q, %v", got, err)
		}
	}
	gone := func(when string) {
		t.Helper()
		if _, err := v.Answer(giveQuestion, []byte("a")); !errors.Is(err, query.ErrNo) {
			t.Errorf("%s it remembers: %v", when, err)
		}
		if _, ok := v.Forget(); ok {
			t.Errorf("%s it holds something", when)
		}
	}
	keep()
	now = now.Add(agent.WorkingDay + time.Second)
	gone("after a working day")
	keep()
	now, up = now.AddDate(-1, 0, 0), up+agent.WorkingDay+time.Second
	gone("after a working day in which the calendar was set back by a year")
	keep()
	v.RemoveAll()
	gone("told to forget")
}

// TestManyAtOnce loses nothing when many write at once.
func TestManyAtOnce(t *testing.T) {
	t.Parallel()
	c := held(t)
	var wait sync.WaitGroup
	for i := range 50 {
		wait.Go(func() {
			e := Entry{Name: fmt.Sprintf("n%d", i), Protocol: "https", At: "forge.tidewater.example",
				User: fmt.Sprint(i)}
			if _, err := c.again().Put(e, Secret{Token: text("tide-1")}); err != nil {
				t.Error(err)
			}
		})
	}
	wait.Wait()
	if list, err := c.List(); err != nil || len(list) != 50 {
		t.Errorf("%d, %v", len(list), err)
	}
}

// TestDamage breaks files in several ways: each costs one entry at most, and is set aside.
func TestDamage(t *testing.T) {
	t.Parallel()
	for name, spoil := range map[string]func([]byte) []byte{
		"empty":   func([]byte) []byte { return nil },
		"half":    func(b []byte) []byte { return b[:len(b)/2] },
		"rubbish": func(b []byte) []byte { return []byte(strings.Repeat("x", len(b))) },
		"a letter": func(b []byte) []byte {
			return []byte(strings.Replace(string(b), "tidewater", "lidewater", 1))
		},
		"huge": func([]byte) []byte { return []byte(strings.Repeat(" ", maxFile+10)) },
	} {
		c := held(t)
		for i := range 3 {
			e := Entry{Name: fmt.Sprintf("n%d", i), Protocol: "https", At: "forge.tidewater.example",
				User: fmt.Sprint(i)}
			if _, err := c.Put(e, Secret{Token: text("tide-1")}); err != nil {
				t.Fatal(err)
			}
		}
		for _, path := range []string{c.path("n1"), c.keyPaths()[0]} {
			content, err := os.ReadFile(path)
			if err != nil {
				t.Fatal(err)
			}
			if err := os.WriteFile(path, spoil(content), 0o600); err != nil {
				t.Fatal(err)
			}
		}
		if list, err := c.List(); !errors.Is(err, ErrDamaged) || len(list) != 2 {
			t.Errorf("%s: %d, %v", name, len(list), err)
		}
		aside, err := c.SetAside(time.Now())
		if err != nil || len(aside) != 1 {
			t.Errorf("%s: %v, %v", name, aside, err)
		}
		if list, err := c.List(); err != nil || len(list) != 2 {
			t.Errorf("%s: afterwards %d, %v", name, len(list), err)
		}
		if _, err := c.Open(t.Context(), text("seven tides")); err != nil {
			t.Errorf("%s: the copy of the key: %v", name, err)
		}
		e, _ := c.Entry("n2")
		if s, err := c.Get(e); err != nil || string(s.Token.Reveal()) != "tide-1" {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func TestEntriesStayInTheirPlace(t *testing.T) {
	t.Parallel()
	c := held(t)
	for _, e := range []Entry{{Name: "a\nb", Protocol: "https", At: "x"}, {Name: "a", At: "x"},
		{Name: "a", Protocol: "https", At: "x\x00y"}, {}} {
		if _, err := c.Put(e, Secret{Token: text("x")}); err == nil {
			t.Errorf("%+v was taken", e)
		}
	}
	empty := &Chest{folder: filepath.Join(t.TempDir(), "chest"), seen: filepath.Join(t.TempDir(), "seen.json")}
	if list, err := empty.List(); err != nil || list != nil {
		t.Errorf("no file: %v, %v", list, err)
	}
	if _, err := empty.Put(Entry{Name: "a", Protocol: "https", At: "x"}, Secret{}); !errors.Is(err, ErrNoChest) {
		t.Errorf("no passphrase yet: %v", err)
	}
}

func TestWhatAnEntryIsFor(t *testing.T) {
	t.Parallel()
	now := time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)
	for name, row := range map[string]struct {
		e     Entry
		ended bool
	}{
		"no end":        {Entry{}, false},
		"later":         {Entry{Until: now.Add(time.Second)}, false},
		"this instant":  {Entry{Until: now}, true},
		"renews itself": {Entry{Until: now.AddDate(-1, 0, 0), Signed: true}, false},
	} {
		if got := row.e.Ended(now); got != row.ended {
			t.Errorf("%s: %v", name, got)
		}
	}
	plain, narrow := Entry{User: "pass", Account: "imarlow"}, Entry{User: "pass", Path: "buoys/drift-model.git"}
	for _, row := range []struct {
		e          Entry
		user, path string
		want       bool
	}{
		{plain, "", "", true}, {plain, "pass", "x", true}, {plain, "imarlow", "", true}, {plain, "lab", "", false},
		{narrow, "", "buoys/drift-model.git", true}, {narrow, "", "", false},
		{narrow, "lab", "buoys/drift-model.git", false},
	} {
		if got := row.e.Fits(row.user, row.path); got != row.want {
			t.Errorf("%+v for %q at %q: %v", row.e, row.user, row.path, got)
		}
	}
}

// FuzzParse takes an entry for one only where its sum is right and nothing in it could do harm; with
// the right sum, it reaches that.
func FuzzParse(f *testing.F) {
	f.Add([]byte(`{"name":"forge","kind":"sealed","protocol":"https","at":"forge.tidewater.example","user":"ines","made":"2026-11-23T12:00:00Z"}`))
	f.Add([]byte(`{"name":"a\nb","protocol":"https","at":"x"}`))
	f.Add([]byte(`{}`))
	f.Fuzz(func(t *testing.T, entry []byte) {
		if e, err := parse(entry); err == nil {
			t.Fatalf("%q has no sum, and is read as %+v", entry, e)
		}
		whole, err := json.Marshal(file{version, entry, sum(entry), []byte("sealed")})
		if err != nil { // no JSON at all
			return
		}
		if e, err := parse(whole); err == nil && e.check() != nil {
			t.Fatalf("%q is read as %+v", whole, e)
		}
	})
}
