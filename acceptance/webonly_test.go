package acceptance

import (
	"os"
	"regexp"
	"strings"
	"testing"
)

// TestHostByHTTPSAlone goes from nothing to a clone at a host whose description says nothing of SSH, and is told
// plainly where SSH would be needed.
func TestHostByHTTPSAlone(t *testing.T) {
	t.Parallel()
	p := withHost(t).withChest()
	url := p.cloneHTTPS("buoys/drift-model")
	text, err := os.ReadFile(p.host.DescriptionFile())
	if err != nil {
		t.Fatal(err)
	}
	p.must("host", "drop", "forge", "--yes")
	ssh := regexp.MustCompile(`(?s)\n\[ssh\]\n.*?\n\n`)
	p.write(ssh.ReplaceAllString(strings.ReplaceAll(string(text), `ssh = "$.clone_ssh"`, ""), "\n"), "web.toml")
	p.must("host", "add", p.path("web.toml"), "--yes")
	if p.exists(".ssh", "unicrux.conf") {
		t.Errorf("settings of ssh's were made: %s", p.read(".ssh", "unicrux.conf"))
	}
	if r := p.must("host", "show", "forge"); !strings.Contains(r.out, "https") || strings.Contains(r.out, "port 22") {
		t.Errorf("shown: %s", r)
	}
	if c := p.check("forge"); c.Open || c.Question.Transport != "https" {
		t.Errorf("check: %+v", c)
	}
	r := p.unicrux("ready", url, "--token-from", p.host.TokenFile(), "--chest-passphrase-from", p.path("chest-words"))
	if r.exit != 0 || !p.exists("drift-model", ".git") {
		t.Fatalf("ready: %s", r)
	}
	if c := p.check("forge"); !c.Open {
		t.Errorf("check afterwards: %+v", c.Crux)
	}
	if r := p.must("look"); !strings.Contains(r.out, "forge") {
		t.Errorf("look: %s", r)
	}
	if r := p.must("card", "forge", "--json"); strings.Contains(r.out, `"transport":"ssh"`) ||
		!strings.Contains(r.out, "https") {
		t.Errorf("card: %s", r)
	}
	for _, args := range [][]string{{"key", "new", "--host", "forge", "--no-passphrase"}, {"host", "trust", "forge"},
		{"host", "account", "add", "lab@forge", "--folder", p.path("lab")}} {
		if r := p.unicrux(args...); r.exit != 1 || !strings.Contains(strings.Join(strings.Fields(r.err), " "),
			"reached by HTTPS alone") {
			t.Errorf("%v: %s", args, r)
		}
	}
	p.must("key", "new", "mine", "--no-passphrase")
	if r := p.unicrux("key", "register", "mine", "forge", "--token-from", p.host.TokenFile()); r.exit != 1 ||
		!strings.Contains(r.err, "HTTPS alone") {
		t.Errorf("key register: %s", r)
	}
	p.must("host", "drop", "forge", "--yes")
}
