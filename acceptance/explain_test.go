package acceptance

import (
	"fmt"
	"strings"
	"testing"
)

// TestExplainCode asks what a code means, and for words that are none.
func TestExplainCode(t *testing.T) {
	t.Parallel()
	p := newPerson(t)
	r := p.unicrux("explain", "key-not-registered")
	if r.exit != 0 || !strings.Contains(r.out, "key-not-registered (at the stage sign-in)") ||
		!strings.Contains(r.out, "mend") {
		t.Errorf("%s", r)
	}
	p.write("ssh: connect to host forge.tidewater.example port 22: Connection refused\n", "key-none")
	if r := p.unicrux("explain", p.path("key-none")); !strings.Contains(r.out, "refuse") {
		t.Errorf("a file whose name is a code: %s", r)
	}
	for name, says := range map[string]string{"key-nothing": "key-not-registered", "nothing": "pipe it in"} {
		if r := p.unicrux("explain", name); r.exit != 2 ||
			!strings.Contains(strings.Join(strings.Fields(r.err), " "), says) {
			t.Errorf("explain %s: %s", name, r)
		}
	}
	if read := p.explain("", "tls-ended"); !read.Conclusive || read.codes()[0] != "tls-ended" {
		t.Errorf("%+v", read)
	}
}

// TestNoShell tries the sign-in as people do, by the ssh client alone, at a host that only runs git's commands: what
// looks like a failure is none.
func TestNoShell(t *testing.T) {
	t.Parallel()
	p := settled(t)
	need(t, "git-shell")
	who := loginUser(t)
	line := p.must("key", "show", "forge_ed25519", "--line").out
	port, _ := p.sshd(line, `ForceCommand git-shell ${SSH_ORIGINAL_COMMAND:+-c "$SSH_ORIGINAL_COMMAND"}`)
	const block = "Host shell.example\n  HostName 127.0.0.1\n  Port %d\n  User %s\n  IdentityFile %s\n  UserKnownHostsFile %s\n"
	p.write(fmt.Sprintf(block, port, who.Username, p.path(".ssh", "forge_ed25519"), p.path(".ssh", "known_hosts")),
		".ssh", "config")
	p.must("host", "trust", "shell.example", "--fingerprint", p.fingerprint("sshd_host"))
	for _, asked := range []string{"", "ls"} {
		failed := p.run("", "ssh", "-T", "-F", p.path(".ssh", "config"), "shell.example", asked)
		read := p.explain(failed.out + failed.err)
		if failed.exit == 0 || !read.Conclusive || read.codes()[0] != "no-shell" {
			t.Errorf("ssh shell.example %s: %v of %s", asked, read.codes(), failed)
		}
		if r := p.run(failed.err, program, "explain"); !strings.Contains(r.out, "well") ||
			strings.Contains(r.out, "crux  ") {
			t.Errorf("%s", r)
		}
	}
}
