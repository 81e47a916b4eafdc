package acceptance

import (
	"encoding/json"
	"strings"
	"testing"
)

func TestLook(t *testing.T) {
	t.Parallel()
	empty := newPerson(t)
	if r := empty.must("look"); strings.Count(strings.TrimSpace(r.out), "\n") != 3 ||
		!strings.Contains(r.out, "Nothing is here yet") || !strings.Contains(r.out, "unicrux ready URL") {
		t.Errorf("on an empty workstation: %s", r)
	}
	p := withHost(t)
	if r := p.must("look"); !strings.Contains(r.out, "unicrux ready forge") {
		t.Errorf("with a described host: %s", r)
	}
	p.must(append([]string{"ready", "forge"}, p.readyArgs()[2:]...)...)
	p.write(p.read(".ssh", "forge_ed25519"), "Downloads", "temp", "copied")
	p.must("key", "new", "other", "--type", "ecdsa", "--no-passphrase")
	p.write(p.read(".ssh", "other"), "Desktop", "odd")
	p.chmod(0o644, "Desktop", "odd")
	var document struct {
		Schema string
		Hosts  []struct {
			Name    string
			Trusted bool
			Offers  []string
		}
		Unsafe []struct{ Risk, Path string }
	}
	r := p.must("look", "--json")
	if err := json.Unmarshal([]byte(r.out), &document); err != nil || document.Schema != "unicrux.look/1" {
		t.Fatalf("%v: %s", err, r)
	}
	if h := document.Hosts; len(h) != 1 || !h[0].Trusted || len(h[0].Offers) != 1 ||
		h[0].Offers[0] != p.path(".ssh", "forge_ed25519") {
		t.Errorf("hosts %+v", h)
	}
	risks := map[string]string{}
	for _, finding := range document.Unsafe {
		risks[finding.Risk] += strings.TrimPrefix(finding.Path, p.home) + " "
	}
	if risks["exposed"] != "/Desktop/odd " || risks["no-passphrase"] != "/.ssh/forge_ed25519 " ||
		risks["odd-place"] != "/Downloads/temp/copied /Desktop/odd " {
		t.Errorf("unsafe: %q", risks)
	}
	if r := p.must("look"); !strings.Contains(r.out, "chmod 600 ~/Desktop/odd") || !strings.Contains(r.out, "offered") {
		t.Errorf("%s", r)
	}
	p.chmod(0o600, "Desktop", "odd")
	if r := p.must("look"); !strings.Contains(r.out, "unicrux key passphrase") {
		t.Errorf("%s", r)
	}
	if r := p.must("look", "agent"); !strings.Contains(r.out, "no holder runs") {
		t.Errorf("%s", r)
	}
	p.extra = append(p.extra, "SSH_AUTH_SOCK="+p.path("nowhere"))
	if r := p.must("look", "agent"); !strings.Contains(r.out, "does not answer") {
		t.Errorf("%s", r)
	}
	p.agent()
	p.must("key", "load", "other")
	for part, words := range map[string]string{"agent": "holds    1 key", "hosts": "forge_ed25519",
		"keys": "ecdsa 256"} {
		if r := p.must("look", part); !strings.Contains(r.out, words) {
			t.Errorf("look %s: %s", part, r)
		}
	}
	if r := p.unicrux("look", "weather"); r.exit != 2 {
		t.Errorf("%s", r)
	}
}
