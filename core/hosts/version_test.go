package hosts

import (
	"errors"
	"os"
	"path/filepath"
	"testing"

	"anchorage.example/unicrux/core/workstation"
)

// TestNewerSettings leaves files alone that a newer version of Unicrux wrote.
func TestNewerSettings(t *testing.T) {
	t.Parallel()
	station := here(t)
	batch := station.Begin("Test.", false)
	source, ok := forge.source(t)
	if !ok {
		t.Fatal("no description")
	}
	if err := errors.Join(Add(batch, station, source),
		SettleHTTPS(t.Context(), batch, station, source.Description, "/usr/bin/unicrux")); err != nil {
		t.Fatal(err)
	}
	for _, path := range []string{OurFile(station), OurGitFile(station)} {
		text, err := os.ReadFile(path)
		if err != nil || ourVersion(path, text) != nil {
			t.Fatalf("%s: %v", path, err)
		}
		newer := []byte(ourMark + "2). More words.\nUnheardOf yes\n")
		if err := os.WriteFile(path, newer, 0o600); err != nil {
			t.Fatal(err)
		}
		err = errors.Join(Settle(batch, station, "other.example"),
			SettleHelper(t.Context(), batch, station, []string{"other.example"}, "/usr/bin/unicrux"))
		if now, _ := os.ReadFile(path); !errors.Is(err, workstation.ErrNewer) || string(now) != string(newer) {
			t.Errorf("%s: %v: %q", filepath.Base(path), err, now)
		}
		if err := os.WriteFile(path, text, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	for text, fine := range map[string]bool{"": true, "Host a\n": true, ourHead: true, gitHead: true,
		ourMark + "9).\n": false, ourMark + "x).\n": false, ourMark: false} {
		if err := ourVersion("x", []byte(text)); (err == nil) != fine {
			t.Errorf("%q: %v", text, err)
		}
	}
}
