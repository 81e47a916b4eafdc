package acceptance

import (
	"encoding/json"
	"os"
	"slices"
	"strings"
	"testing"
)

// TestKeyFind looks for what lies about, mends what it is told to, and looks again.
func TestKeyFind(t *testing.T) {
	t.Parallel()
	p := settled(t)
	p.must("key", "new", "left", "--no-passphrase")
	for _, end := range []string{"", ".pub"} {
		p.write(p.read(".ssh", "left"+end), "Downloads", "temp", "left"+end)
		p.remove(".ssh", "left"+end)
	}
	if err := os.Chmod(p.path("Downloads", "temp", "left"), 0o644); err != nil {
		t.Fatal(err)
	}
	p.write(p.read(".ssh", "forge_ed25519"), "site", "deploy")
	p.mustGit("init", "--quiet", "site")
	p.mustGit("-C", "site", "add", "deploy")

	risks := func() map[string][]string {
		var document struct {
			Schema   string
			Complete bool
			Keys     []struct {
				Path    string
				Private bool
				Risks   []string
			}
		}
		r := p.must("key", "find", "--json")
		if err := json.Unmarshal([]byte(r.out), &document); err != nil || document.Schema != "unicrux.found/1" ||
			!document.Complete {
			t.Fatalf("%v: %s", err, r)
		}
		found := map[string][]string{}
		for _, key := range document.Keys {
			found[strings.TrimPrefix(key.Path, p.home+"/")] = key.Risks
		}
		return found
	}
	for path, want := range map[string][]string{".ssh/forge_ed25519": {"no-passphrase"},
		"Downloads/temp/left": {"exposed", "no-passphrase", "odd-place"},
		"site/deploy":         {"tracked", "no-passphrase", "twice", "odd-place", "no-public"}} {
		if got := risks()[path]; !slices.Equal(got, want) {
			t.Errorf("%s: %v, want %v", path, got, want)
		}
	}
	r := p.must("key", "find")
	for _, words := range []string{"3 private keys in ", "chmod 600 ~/Downloads/temp/left",
		"git -C ~/site rm --cached deploy", "used     Host forge.tidewater.example (~/.ssh/unicrux.conf:"} {
		if !strings.Contains(r.out, words) {
			t.Errorf("no %q: %s", words, r)
		}
	}
	if r := p.run("", "sh", "-c",
		"chmod 600 ~/Downloads/temp/left && git -C ~/site rm --quiet --cached deploy"); r.exit != 0 {
		t.Fatal(r)
	}
	if got := risks(); slices.Contains(got["Downloads/temp/left"], "exposed") ||
		slices.Contains(got["site/deploy"], "tracked") {
		t.Errorf("after the mends: %v", got)
	}
	if r := p.unicrux("key", "find", "nowhere"); r.exit != 3 || !strings.Contains(r.err, "nowhere") {
		t.Errorf("%s", r)
	}
	if r := p.must("key", "find", "site/.git"); !strings.Contains(r.out, "No key is in") {
		t.Errorf("%s", r)
	}
}
