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

	"filippo.io/age"

	"Unicrux/core/agent"
	"Unicrux/core/lifetime"
	"Unicrux/core/origin"
	"Unicrux/core/query"
	"Unicrux/core/secret"
)

func text(s string) secret.Text { return secret.New([]byte(s)) }

// held is a chest beside a running vault, with a passphrase.
func held(t testing.TB) *Chest {
	t.Helper()
	dir := t.TempDir()
	if err := os.Chmod(dir, 0o700); err != nil {
		t.Fatal(err)
	}
	c := &Chest{folder: filepath.Join(dir, "chest"), seen: filepath.Join(dir, "seen.json"), socket: filepath.Join(dir, "s"), work: 10}
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
				defer conn.Close() //nolint:errcheck // the client has left
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
	if err := c.Lock(secret.Text{}, text("seven tides")); err != nil {
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
				key, err := c.Open(text("seven tides"))
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
	if err := c.Put(e, Secret{Token: text("tide-1")}); err != nil {
		t.Fatal(err)
	}
	e, _ = c.Entry("forge")
	if _, err := c.again().Get(e); !errors.Is(err, ErrClosed) {
		t.Errorf("closed: %v", err)
	}
	if _, err := c.Open(text("eight tides")); !errors.Is(err, ErrWrong) {
		t.Errorf("a wrong passphrase: %v", err)
	}
	key, err := c.Open(text("seven tides"))
	if err != nil {
		t.Fatal(err)
	}
	if err := c.OpenInHolder(key, time.Hour); err != nil {
		t.Fatal(err)
	}
	if s, err := c.again().Get(e); err != nil || string(s.Token.Reveal()) != "tide-1" {
		t.Errorf("open: %v", err)
	}
	if until, open := c.OpenUntil(); !open || time.Until(until) < 50*time.Minute {
		t.Errorf("until %v, %v", until, open)
	}
	if err := c.Lock(text("seven tides"), text("nine tides")); err != nil {
		t.Fatal(err)
	}
	if _, err := c.again().Open(text("seven tides")); !errors.Is(err, ErrWrong) {
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
		if file, _ := os.ReadFile(path); strings.Contains(string(file), "tide-1") || strings.Contains(string(file), "AGE-SECRET-KEY") {
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

// tamper changes the file of an entry as somebody would who can write in the folder, and keeps its
// sum right.
func tamper(t *testing.T, c *Chest, name string, change func(e *Entry, sealed *[]byte)) {
	t.Helper()
	text, err := os.ReadFile(c.path(name))
	if err != nil {
		t.Fatal(err)
	}
	e, err := parse(text)
	if err != nil {
		t.Fatal(err)
	}
	sealed := e.sealed
	change(&e, &sealed)
	if err := c.write(e, sealed); err != nil {
		t.Fatal(err)
	}
}

// TestASecretIsForItsOwnEntry plays whoever can write in the chest's folder, and cannot open it.
func TestASecretIsForItsOwnEntry(t *testing.T) {
	t.Parallel()
	c := held(t)
	forge := origin.Place{Origin: "https://forge.tidewater.example:443"}
	for _, e := range []Entry{{Name: "forge", Protocol: "https", At: "forge.tidewater.example", User: "ines", Places: []origin.Place{forge}},
		{Name: "marsh", Protocol: "https", At: "git.saltmarsh.example", User: "ines", Places: []origin.Place{{Origin: "https://git.saltmarsh.example:443"}}}} {
		if err := c.Put(e, Secret{Token: text("tide of " + e.Name)}); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := c.Open(text("seven tides")); err != nil {
		t.Fatal(err)
	}
	sealedOf := func(name string) []byte {
		e, err := read(c.path(name))
		if err != nil {
			t.Fatal(err)
		}
		return e.sealed
	}
	ofForge, ofMarsh := sealedOf("forge"), sealedOf("marsh")
	for name, change := range map[string]func(e *Entry, sealed *[]byte){
		"another host": func(e *Entry, _ *[]byte) { e.At = "evil.example" },
		"another user": func(e *Entry, _ *[]byte) { e.User = "lab" },
		"another path": func(e *Entry, _ *[]byte) { e.Path = "x" },
		"another place": func(e *Entry, _ *[]byte) {
			e.Places = append(e.Places, origin.Place{Origin: "https://evil.example:443"})
		},
		"another address":   func(e *Entry, _ *[]byte) { e.Places[0].Address = "127.0.0.9" },
		"another authority": func(e *Entry, _ *[]byte) { e.Places[0].Authority = "00" },
		"another's secret":  func(_ *Entry, sealed *[]byte) { *sealed = ofMarsh },
	} {
		tamper(t, c, "forge", change)
		e, err := c.again().Entry("forge")
		if err != nil {
			t.Fatal(err)
		}
		if s, err := c.Get(e); !errors.Is(err, ErrSwapped) || !s.Token.Empty() {
			t.Errorf("%s: %v", name, err)
		}
		tamper(t, c, "forge", func(e *Entry, sealed *[]byte) {
			*e = Entry{Name: "forge", Kind: Sealed, Protocol: "https", At: "forge.tidewater.example", User: "ines", Places: []origin.Place{forge}}
			*sealed = ofForge
		})
	}
	e, _ := c.Entry("forge")
	if s, err := c.Get(e); err != nil || string(s.Token.Reveal()) != "tide of forge" {
		t.Errorf("put right again: %v", err)
	}
	bound := Secret{Token: text("x")}.Bound(e)
	if _, err := bound.To(forge); err != nil {
		t.Errorf("its own place: %v", err)
	}
}

// TestTheKeyFileIsOurs puts another recipient into the key file: what is kept later must not be sealed
// to it, on this computer or on one that sees the chest for the first time.
func TestTheKeyFileIsOurs(t *testing.T) {
	t.Parallel()
	c := held(t)
	e := Entry{Name: "forge", Protocol: "https", At: "forge.tidewater.example", User: "ines"}
	if err := c.Put(e, Secret{Token: text("tide-1")}); err != nil {
		t.Fatal(err)
	}
	other, err := age.GenerateX25519Identity()
	if err != nil {
		t.Fatal(err)
	}
	if err := c.changeKey(func(k *keyFile) error { k.Recipient = other.Recipient().String(); return nil }); err != nil {
		t.Fatal(err)
	}
	if err := c.again().Put(e, Secret{Token: text("tide-2")}); !errors.Is(err, ErrSeal) {
		t.Errorf("kept all the same: %v", err)
	}
	if _, err := c.again().Open(text("seven tides")); !errors.Is(err, ErrSeal) {
		t.Errorf("opened all the same: %v", err)
	}
	elsewhere := c.again()
	elsewhere.seen = filepath.Join(t.TempDir(), "seen.json")
	if err := elsewhere.Put(e, Secret{Token: text("tide-2")}); !errors.Is(err, ErrClosed) {
		t.Errorf("kept by a computer that has seen nothing: %v", err)
	}
	if err := c.Lock(text("seven tides"), text("nine tides")); err != nil {
		t.Fatal(err)
	}
	if _, err := c.Open(text("nine tides")); err != nil {
		t.Errorf("the way out: %v", err)
	}
	if key, err := elsewhere.Open(text("nine tides")); err != nil || elsewhere.OpenInHolder(key, time.Hour) != nil {
		t.Errorf("opened elsewhere: %v", err)
	}
	if err := elsewhere.again().Put(e, Secret{Token: text("tide-2")}); err != nil {
		t.Errorf("kept elsewhere once it was opened: %v", err)
	}
}

// TestNewerFiles leaves alone what a newer version of Unicrux wrote.
func TestNewerFiles(t *testing.T) {
	t.Parallel()
	c := held(t)
	e := Entry{Name: "forge", Protocol: "https", At: "forge.tidewater.example", User: "ines"}
	if err := c.Put(e, Secret{Token: text("tide-1")}); err != nil {
		t.Fatal(err)
	}
	newer := func(path string) (undo func()) {
		before, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		after := strings.Replace(string(before), `"version":1`, `"version":2,"more":"words"`, 1)
		if err := os.WriteFile(path, []byte(after), 0o600); err != nil {
			t.Fatal(err)
		}
		return func() {
			if now, _ := os.ReadFile(path); string(now) != after {
				t.Errorf("%s was rewritten: %s", path, now)
			}
			if err := os.WriteFile(path, before, 0o600); err != nil {
				t.Fatal(err)
			}
		}
	}
	undo := newer(c.path("forge"))
	if err := c.again().Put(e, Secret{Token: text("tide-2")}); !errors.Is(err, ErrNewer) {
		t.Errorf("an entry: %v", err)
	}
	if _, err := c.again().List(); !errors.Is(err, ErrNewer) {
		t.Errorf("listed: %v", err)
	}
	undo()
	undo = newer(c.keyPaths()[0])
	if err := c.again().Put(e, Secret{Token: text("tide-2")}); !errors.Is(err, ErrNewer) {
		t.Errorf("the key file: %v", err)
	}
	if err := c.again().SetKind(Memory); !errors.Is(err, ErrNewer) {
		t.Errorf("the key file, rewritten: %v", err)
	}
	undo()
	if err := c.again().Put(e, Secret{Token: text("tide-2")}); err != nil {
		t.Errorf("as before: %v", err)
	}
}

// TestRolledBack puts an older state of the whole folder back.
func TestRolledBack(t *testing.T) {
	t.Parallel()
	c := held(t)
	e := Entry{Name: "forge", Protocol: "https", At: "forge.tidewater.example", User: "ines"}
	if err := c.Put(e, Secret{Token: text("tide-1")}); err != nil {
		t.Fatal(err)
	}
	backup := t.TempDir()
	if err := os.CopyFS(backup, os.DirFS(c.folder)); err != nil {
		t.Fatal(err)
	}
	if err := c.Put(e, Secret{Token: text("tide-2")}); err != nil || c.RolledBack() {
		t.Fatalf("%v, rolled back: %v", err, c.RolledBack())
	}
	if err := errors.Join(os.RemoveAll(c.folder), os.CopyFS(c.folder, os.DirFS(backup))); err != nil {
		t.Fatal(err)
	}
	if !c.again().RolledBack() {
		t.Error("it is not noticed")
	}
	if err := c.again().Put(e, Secret{Token: text("tide-3")}); err != nil || c.RolledBack() {
		t.Errorf("after a change: %v, %v", err, c.RolledBack())
	}
}

// TestManyAtOnce loses nothing when many write at once.
func TestManyAtOnce(t *testing.T) {
	t.Parallel()
	c := held(t)
	var wait sync.WaitGroup
	for i := range 50 {
		wait.Go(func() {
			e := Entry{Name: fmt.Sprintf("n%d", i), Protocol: "https", At: "forge.tidewater.example", User: fmt.Sprint(i)}
			if err := c.again().Put(e, Secret{Token: text("tide-1")}); err != nil {
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
			e := Entry{Name: fmt.Sprintf("n%d", i), Protocol: "https", At: "forge.tidewater.example", User: fmt.Sprint(i)}
			if err := c.Put(e, Secret{Token: text("tide-1")}); err != nil {
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
		if _, err := c.Open(text("seven tides")); err != nil {
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
	for _, e := range []Entry{{Name: "a\nb", Protocol: "https", At: "x"}, {Name: "a", At: "x"}, {Name: "a", Protocol: "https", At: "x\x00y"}, {}} {
		if err := c.Put(e, Secret{Token: text("x")}); err == nil {
			t.Errorf("%+v was taken", e)
		}
	}
	empty := &Chest{folder: filepath.Join(t.TempDir(), "chest"), seen: filepath.Join(t.TempDir(), "seen.json")}
	if list, err := empty.List(); err != nil || list != nil {
		t.Errorf("no file: %v, %v", list, err)
	}
	if err := empty.Put(Entry{Name: "a", Protocol: "https", At: "x"}, Secret{}); !errors.Is(err, ErrNoChest) {
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
		{narrow, "", "buoys/drift-model.git", true}, {narrow, "", "", false}, {narrow, "lab", "buoys/drift-model.git", false},
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
