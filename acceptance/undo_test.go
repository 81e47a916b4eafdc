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
	r := p.must("undo", "--all", "--token-from", p.host.TokenFile())
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
