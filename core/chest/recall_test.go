package chest

import (
	"io/fs"
	"os"
	"path/filepath"
	"testing"
	"time"
)

// TestRecall remembers what was read, until any of it changes.
func TestRecall(t *testing.T) {
	t.Parallel()
	other := held(t)
	c := other.again()
	c.recall = &recall{lists: map[string]listing{}}
	entry := func(name, user string) Entry {
		return Entry{Name: name, Protocol: "https", At: "forge.tidewater.example", User: user}
	}
	put := func(e Entry) {
		if _, err := other.Put(e, Secret{Token: text("tide of " + e.Name)}); err != nil {
			t.Fatal(err)
		}
	}
	// asked is what is found twice in a row, after some time has gone by.
	asked := func() string {
		t.Helper()
		backdate(t, c.folder)
		users := ""
		for range 2 {
			list, err := c.At("https", "forge.tidewater.example")
			if err != nil {
				t.Fatal(err)
			}
			users += "|"
			for _, e := range list {
				users += e.User + " "
			}
		}
		return users
	}
	steps := []struct {
		name string
		do   func()
		want string
	}{
		{"nothing there", func() {}, "||"},
		{"one", func() { put(entry("one", "ines")) }, "|ines |ines "},
		{"changed", func() { put(entry("one", "lab")) }, "|lab |lab "},
		{"another", func() { put(entry("two", "ines")) }, "|lab ines |lab ines "},
		{"moved to another host", func() {
			e := entry("two", "ines")
			e.At = "atoll.tidewater.example"
			put(e)
		}, "|lab |lab "},
		{"removed", func() {
			if err := other.Remove("one"); err != nil {
				t.Fatal(err)
			}
		}, "||"},
	}
	for _, step := range steps {
		if step.do(); asked() != step.want {
			t.Errorf("%s: %q, want %q", step.name, asked(), step.want)
		}
	}

	put(entry("one", "ines"))
	backdate(t, c.folder)
	folder := c.hostFolder("https", "forge.tidewater.example")
	first, _ := c.At("https", "forge.tidewater.example")
	if again, ok := c.recall.find(folder); !ok || len(first) != 1 || len(again) != 1 || again[0].User != "ines" {
		t.Errorf("nothing is remembered: %+v", again)
	}
	put(entry("one", "lab"))
	if _, err := c.At("https", "forge.tidewater.example"); err != nil {
		t.Fatal(err)
	}
	if again, ok := c.recall.find(folder); ok {
		t.Errorf("what may change within the same instant is remembered: %+v", again)
	}
}

// backdate makes all files of a folder an hour older than they are now, as if time went by.
func backdate(t *testing.T, folder string) {
	t.Helper()
	err := filepath.WalkDir(folder, func(path string, _ fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		info, err := os.Stat(path)
		if err != nil {
			return err
		}
		earlier := info.ModTime().Add(-time.Hour)
		return os.Chtimes(path, earlier, earlier)
	})
	if err != nil {
		t.Fatal(err)
	}
}
