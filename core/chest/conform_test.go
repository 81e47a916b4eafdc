package chest

import (
	"errors"
	"slices"
	"testing"
	"time"

	"anchorage.example/unicrux/core/secret"
)

// conform is the test that every kind has to pass: what is put is found and given back as it
// was, to whom it belongs and to nobody else, and removed it is gone. unlock opens the chest.
func conform(t *testing.T, c *Chest, kind Kind, unlock func()) {
	t.Helper()
	if err := c.SetKind(kind); err != nil {
		t.Fatal(err)
	}
	until := time.Now().AddDate(0, 0, 9).UTC().Truncate(time.Second)
	first := Entry{Name: "forge", Protocol: "https", At: "forge.tidewater.example:8443", User: "ines.marlow",
		Purposes: []string{"clone", "push"}, Until: until}
	second := Entry{Name: "lab@forge", Protocol: "https", At: "forge.tidewater.example:8443", User: "lab"}
	other := Entry{Name: "other", Protocol: "https", At: "forge.tidewater.example", User: "ines.marlow"}
	for i, e := range []Entry{first, second, other} {
		s := Secret{Token: secret.New([]byte{'t', byte('0' + i), 0xff, '\n'}), Refresh: secret.New([]byte("again"))}
		if _, err := c.Put(e, s); err != nil {
			t.Fatal(kind, err)
		}
	}
	unlock()
	found, err := c.At("https", "Forge.tidewater.example:8443")
	if err != nil || len(found) != 2 || found[0].Kind != kind || !slices.Equal(found[0].Purposes, first.Purposes) ||
		!found[0].Until.Equal(until) {
		t.Errorf("%s: found %+v, %v", kind, found, err)
	}
	for i, name := range []string{"forge", "lab@forge", "other"} {
		e, err := c.Entry(name)
		if err != nil {
			t.Fatal(kind, err)
		}
		s, err := c.Get(e)
		if err != nil || string(s.Token.Reveal()) != "t"+string(rune('0'+i))+"\xff\n" ||
			string(s.Refresh.Reveal()) != "again" {
			t.Errorf("%s: %s: %v", kind, name, err)
		}
	}
	if err := c.Note("forge", func(e *Entry) { e.Label = "another" }); err != nil {
		t.Errorf("%s: %v", kind, err)
	}
	if e, _ := c.Entry("forge"); e.Label != "another" {
		t.Errorf("%s: noted %+v", kind, e)
	}
	if err := c.Note("forge", func(e *Entry) { e.User = "another" }); err == nil {
		t.Errorf("%s: what a secret is for was changed beside it", kind)
	}
	if added, err := c.Add(first, Secret{Token: secret.New([]byte("x"))}); added.Name != "forge-2" || err != nil {
		t.Errorf("%s: a free name: %s, %v", kind, added.Name, err)
	}
	if err := c.Remove("forge-2"); err != nil {
		t.Errorf("%s: %v", kind, err)
	}
	gone, _ := c.Entry("forge")
	if err := c.Remove("forge"); err != nil {
		t.Errorf("%s: %v", kind, err)
	}
	if _, err := c.Entry("forge"); !errors.Is(err, ErrNone) {
		t.Errorf("%s: removed, and there: %v", kind, err)
	}
	if _, err := c.Get(gone); !errors.Is(err, ErrLost) {
		t.Errorf("%s: removed, and its secret is there: %v", kind, err)
	}
	if found, _ := c.At("https", "forge.tidewater.example:8443"); len(found) != 1 {
		t.Errorf("%s: %d left", kind, len(found))
	}
}
