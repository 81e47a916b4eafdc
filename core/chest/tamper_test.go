package chest

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"filippo.io/age"

	"anchorage.example/unicrux/core/origin"
)

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
	for _, e := range []Entry{{Name: "forge", Protocol: "https", At: "forge.tidewater.example", User: "ines",
		Places: []origin.Place{forge}},
		{Name: "marsh", Protocol: "https", At: "git.saltmarsh.example", User: "ines",
			Places: []origin.Place{{Origin: "https://git.saltmarsh.example:443"}}}} {
		if _, err := c.Put(e, Secret{Token: text("tide of " + e.Name)}); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := c.Open(t.Context(), text("seven tides")); err != nil {
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
			*e = Entry{Name: "forge", Kind: Sealed, Protocol: "https", At: "forge.tidewater.example", User: "ines",
				Places: []origin.Place{forge}}
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
	if _, err := c.Put(e, Secret{Token: text("tide-1")}); err != nil {
		t.Fatal(err)
	}
	other, err := age.GenerateX25519Identity()
	if err != nil {
		t.Fatal(err)
	}
	if err := c.changeKey(func(k *keyFile) error { k.Recipient = other.Recipient().String(); return nil }); err != nil {
		t.Fatal(err)
	}
	if _, err := c.again().Put(e, Secret{Token: text("tide-2")}); !errors.Is(err, ErrSeal) {
		t.Errorf("kept all the same: %v", err)
	}
	if _, err := c.again().Open(t.Context(), text("seven tides")); !errors.Is(err, ErrSeal) {
		t.Errorf("opened all the same: %v", err)
	}
	elsewhere := c.again()
	elsewhere.seen = filepath.Join(t.TempDir(), "seen.json")
	if _, err := elsewhere.Put(e, Secret{Token: text("tide-2")}); !errors.Is(err, ErrClosed) {
		t.Errorf("kept by a computer that has seen nothing: %v", err)
	}
	if _, err := c.Lock(t.Context(), text("seven tides"), text("nine tides")); err != nil {
		t.Fatal(err)
	}
	if _, err := c.Open(t.Context(), text("nine tides")); err != nil {
		t.Errorf("the way out: %v", err)
	}
	if key, err := elsewhere.Open(t.Context(), text("nine tides")); err != nil ||
		elsewhere.OpenInHolder(key, time.Hour) != nil {
		t.Errorf("opened elsewhere: %v", err)
	}
	if _, err := elsewhere.again().Put(e, Secret{Token: text("tide-2")}); err != nil {
		t.Errorf("kept elsewhere once it was opened: %v", err)
	}
}

// TestOlderFiles are told from damaged ones: nothing is wrong with the disk.
func TestOlderFiles(t *testing.T) {
	t.Parallel()
	_, err := parse([]byte(`{"entry":{"name":"forge"},"sum":"00"}`))
	_, keyErr := parseKey([]byte(`{"sealed_to":"age1","sum":"00"}`))
	for _, err := range []error{err, keyErr} {
		if !errors.Is(err, ErrOlder) || !errors.Is(err, ErrDamaged) {
			t.Error(err)
		}
	}
	if _, err := parse([]byte("{}")); !errors.Is(err, ErrDamaged) || errors.Is(err, ErrOlder) {
		t.Error(err)
	}
}

// TestNewerFiles leaves alone what a newer version of Unicrux wrote.
func TestNewerFiles(t *testing.T) {
	t.Parallel()
	c := held(t)
	e := Entry{Name: "forge", Protocol: "https", At: "forge.tidewater.example", User: "ines"}
	if _, err := c.Put(e, Secret{Token: text("tide-1")}); err != nil {
		t.Fatal(err)
	}
	newer := func(path string) (undo func()) {
		before, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		after := strings.Replace(string(before), `"unicrux-chest/1"`, `"unicrux-chest/2","more":"words"`, 1)
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
	if _, err := c.again().Put(e, Secret{Token: text("tide-2")}); !errors.Is(err, ErrNewer) {
		t.Errorf("an entry: %v", err)
	}
	if _, err := c.again().List(); !errors.Is(err, ErrNewer) {
		t.Errorf("listed: %v", err)
	}
	undo()
	undo = newer(c.keyPaths()[0])
	if _, err := c.again().Put(e, Secret{Token: text("tide-2")}); !errors.Is(err, ErrNewer) {
		t.Errorf("the key file: %v", err)
	}
	if err := c.again().SetKind(Memory); !errors.Is(err, ErrNewer) {
		t.Errorf("the key file, rewritten: %v", err)
	}
	undo()
	if _, err := c.again().Put(e, Secret{Token: text("tide-2")}); err != nil {
		t.Errorf("as before: %v", err)
	}
}

// TestRolledBack puts an older state of the whole folder back.
func TestRolledBack(t *testing.T) {
	t.Parallel()
	c := held(t)
	e := Entry{Name: "forge", Protocol: "https", At: "forge.tidewater.example", User: "ines"}
	if _, err := c.Put(e, Secret{Token: text("tide-1")}); err != nil {
		t.Fatal(err)
	}
	backup := t.TempDir()
	if err := os.CopyFS(backup, os.DirFS(c.folder)); err != nil {
		t.Fatal(err)
	}
	if _, err := c.Put(e, Secret{Token: text("tide-2")}); err != nil || c.RolledBack() {
		t.Fatalf("%v, rolled back: %v", err, c.RolledBack())
	}
	if err := errors.Join(os.RemoveAll(c.folder), os.CopyFS(c.folder, os.DirFS(backup))); err != nil {
		t.Fatal(err)
	}
	if !c.again().RolledBack() {
		t.Error("it is not noticed")
	}
	if _, err := c.again().Put(e, Secret{Token: text("tide-3")}); err != nil || c.RolledBack() {
		t.Errorf("after a change: %v, %v", err, c.RolledBack())
	}
}
