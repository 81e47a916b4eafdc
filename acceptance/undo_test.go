package acceptance

import (
	"fmt"
	"strings"
	"testing"
)

// TestUndoInRealLife: ssh and the person have written into the same files; undo takes out its own lines, says what it
// passes over, and has nothing left to do at last.
func TestUndoInRealLife(t *testing.T) {
	t.Parallel()
	p := settled(t)
	p.write("Host mine\n  User ines\n\n"+p.read(".ssh", "config")+"# the end\n", ".ssh", "config")
	p.write(
		p.read(".ssh", "known_hosts")+"other.example ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIDw=\n",
		".ssh",
		"known_hosts",
	)
	p.must("key", "new", "spare", "--no-passphrase")
	p.write("seven tides", "seven")
	p.must("key", "passphrase", "spare", "--new-passphrase-from", p.path("seven"))
	newest := len(p.changes())
	if r := p.unicrux("undo"); r.exit != 1 || !strings.Contains(r.err, fmt.Sprintf("unicrux undo %d.", newest-2)) {
		t.Errorf("the newest holds a secret: %s", r)
	}
	rehearsed := p.must("undo", "--all", "--dry-run")
	r := p.must("undo", "--all", "--token-from", p.host.TokenFile())
	did := r.out[strings.LastIndex(r.out, "Taken back: ")+len("Taken back: "):]
	words := func(text string) string { return strings.Join(strings.Fields(text), " ") }
	if !strings.HasSuffix(rehearsed.out, "Would take back "+did) ||
		strings.ReplaceAll(words(rehearsed.err), "Would pass over", "Passed over:") != words(r.err) {
		t.Errorf("the rehearsal was another: %s\n%s", rehearsed, r)
	}
	if !strings.Contains(r.err, fmt.Sprintf("Passed over: change %d.", newest)) ||
		!strings.Contains(r.out, "Taken back: ") {
		t.Errorf("all: %s", r)
	}
	if config := p.read(".ssh", "config"); config != "Host mine\n  User ines\n\n# the end\n" {
		t.Errorf("what is left of the person's own: %q", config)
	}
	if known := p.read(".ssh", "known_hosts"); strings.Count(known, "\n") != 1 || !strings.HasPrefix(known, "other.") {
		t.Errorf("host keys: %q", known)
	}
	fresh := newPerson(t)
	if r := fresh.must("undo"); !strings.Contains(r.out, "Nothing is left") {
		t.Errorf("nothing: %s", r)
	}
}

// TestUndoOfAHost takes back all that was done for one host, and nothing else.
func TestUndoOfAHost(t *testing.T) {
	t.Parallel()
	p := settled(t)
	before := p.read(".ssh", "unicrux.conf")
	p.must("host", "set", "quay.tidewater.example", "port=2222")
	p.must("key", "new", "spare", "--no-passphrase")
	if r := p.must("changes", "forge"); strings.Contains(r.out, "quay") || strings.Contains(r.out, "spare") ||
		!strings.Contains(r.out, "Trust forge.") {
		t.Errorf("the changes of forge: %s", r)
	}
	for line, exit := range map[string]int{"undo nowhere": 1, "changes nowhere": 1, "undo 0": 2,
		"undo forge --all": 2} {
		if r := p.unicrux(strings.Fields(line)...); r.exit != exit || r.out != "" {
			t.Errorf("%s: %s", line, r)
		}
	}
	if r := p.must("undo", "quay.tidewater.example"); !strings.Contains(r.out, "Taken back: 1 of 1 changes.") ||
		p.read(".ssh", "unicrux.conf") != before {
		t.Errorf("quay: %s", r)
	}
	if r := p.must("undo", "forge", "--token-from", p.host.TokenFile()); !strings.Contains(r.out, "Taken back: ") {
		t.Errorf("forge: %s", r)
	}
	if p.exists(".ssh", "forge_ed25519") || !p.exists(".ssh", "spare") || p.check(drift).Open {
		t.Error("forge is as it was, or more than forge is gone")
	}
	if r := p.must("undo", "forge"); !strings.Contains(r.out, "Nothing is left") {
		t.Errorf("again: %s", r)
	}
}
