package cli

import (
	"os"
	"path/filepath"
	"testing"

	"anchorage.example/unicrux/core/sshkey"
)

// TestPassphrasesAreKeptByKey makes sure that what opened one key is not tried on another.
func TestPassphrasesAreKeptByKey(t *testing.T) {
	source := filepath.Join(t.TempDir(), "passphrase")
	put := func(text string) {
		if err := os.WriteFile(source, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	put("seven tides\n")
	secrets := (&app{}).secrets(&secretOptions{passphrase: source})
	if _, err := secrets.NewPassphrase("made"); err != nil {
		t.Fatal(err)
	}
	put("nine tides\n")
	for _, row := range []struct{ key, want string }{{"made", "seven tides"}, {"old", "nine tides"},
		{"made", "seven tides"}} {
		if text, err := secrets.Passphrase(&sshkey.Pair{Path: row.key}); err != nil ||
			string(text.Reveal()) != row.want {
			t.Errorf("%s: %q, %v; want %q", row.key, text.Reveal(), err, row.want)
		}
	}
}
