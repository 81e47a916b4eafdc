package acceptance

import (
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"strings"
	"testing"

	"golang.org/x/crypto/ssh"

	"anchorage.example/unicrux/render/document"
)

// TestApply: a state is applied to a machine, and real ssh and git, and a newcomer's ready, go by it; the second run
// touches nothing, what differs is told, and one word takes all of it back.
func TestApply(t *testing.T) {
	t.Parallel()
	l, host := newIsland(t), beside(t, "forge")
	description, err := os.ReadFile(host.host.DescriptionFile())
	if err != nil {
		t.Fatal(err)
	}
	l.write(string(description), "state", "forge.toml")
	l.write("unicrux = 1\nname = \"tidewater\"\n[rules]\nkey-weak = { level = \"must\", kinds = [\"ed25519\"] }\n",
		"state", "policy.toml")
	state := "unicrux = 1\nfleet = \"tidewater\"\npolicy = \"policy.toml\"\n[[host]]\ndescription = \"forge.toml\"\n" +
		"settings = { keep-alive = 30 }\n[git]\nin-place = true\n"
	l.write(state, "state", "state.toml")
	file := l.path("state", "state.toml")
	before := l.etc()
	if r := l.newcomer(1, "apply", file); !strings.Contains(r.err, "root") {
		t.Errorf("as somebody else: %s", r)
	}
	l.root(1, "apply", file, "--dry-run")
	if !maps.Equal(before, l.etc()) {
		t.Error("the dry run changed something")
	}
	l.root(0, "apply", file)
	ours := []string{"unicrux/state.toml", "unicrux/hosts/forge.toml", "unicrux/policy.toml", "unicrux/applied.json",
		"ssh/ssh_config.d/50-unicrux.conf", "gitconfig", "unicrux/git.config"}
	inodes := l.inodes(ours...)
	var again document.Apply
	if err := json.Unmarshal([]byte(l.root(0, "apply", file, "--json").out), &again); err != nil || again.Changed ||
		again.Failed || again.Change != nil || inodes != l.inodes(ours...) {
		t.Errorf("the second run: %v %+v\n%s%s", err, again, inodes, l.inodes(ours...))
	}
	l.root(0, "apply", file, "--dry-run")

	token := l.path("home", "newcomer", "token")
	l.copy(host.host.TokenFile(), token)
	if err := os.Chown(token, newcomerID, newcomerID); err != nil {
		t.Fatal(err)
	}
	if r := l.newcomer(1, "key", "new", "old", "--type", "ecdsa", "--no-passphrase"); !strings.Contains(r.err,
		"key-weak") {
		t.Errorf("the policy forbids it: %s", r)
	}
	l.newcomer(0, "ready", drift, "--token-from", token, "--no-passphrase")
	if own := l.read("home", "newcomer", ".ssh", "unicrux.conf"); strings.Contains(own, "Port") {
		t.Errorf("the machine says how the host is reached: %s", own)
	}
	if r := l.run(true, "git", "ls-remote", drift); r.exit != 0 {
		t.Errorf("git: %s", r)
	}

	public := l.newcomer(0, "key", "show", "forge_ed25519", "--line").out
	key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(public))
	if err != nil {
		t.Fatal(err)
	}
	l.add("[[burned]]\nfingerprint = \""+ssh.FingerprintSHA256(key)+"\"\nwhy = \"left in an image\"\n", "state",
		"state.toml")
	l.root(0, "apply", file)
	if r := l.newcomer(1, "key", "register", "forge_ed25519", "forge", "--token-from",
		token); !strings.Contains(r.err, "left in an image") {
		t.Errorf("a burned key: %s", r)
	}
	l.add("Host *\n\tPort 22\n", "etc", "ssh", "ssh_config.d", "10-site.conf")
	l.add("# mine\n", "etc", "unicrux", "hosts", "forge.toml")
	r := l.root(1, "audit", "--all-homes")
	for _, code := range []string{"key-burned", "state-differs", "state-overruled", "10-site.conf:2"} {
		if !strings.Contains(r.out, code) {
			t.Errorf("audit does not tell %s: %s", code, r)
		}
	}
	l.root(1, "apply", file, "--dry-run")
	l.root(0, "apply", file)
	if err := os.Remove(l.path("etc", "ssh", "ssh_config.d", "10-site.conf")); err != nil {
		t.Fatal(err)
	}
	l.root(0, "undo")
	l.write(string(description), "etc", "unicrux", "hosts", "forge.toml")
	l.root(0, "undo")
	l.root(0, "undo")
	if after := l.etc(); !maps.Equal(before, after) {
		for name, mark := range after {
			if before[name] != mark {
				t.Errorf("not as it was: %s", name)
			}
		}
	}
}

// TestApplyHostKeys: by the machine's own file, ssh takes a host whose key an authority signed without a question, and
// refuses a key that is distrusted, also where a person stores it; apply --homes takes that line out as she would, and
// her own undo brings it back.
func TestApplyHostKeys(t *testing.T) {
	t.Parallel()
	l, p := newIsland(t), newPerson(t)
	for _, name := range []string{"sshd_host", "ca"} {
		p.must("key", "new", name, "--no-passphrase")
	}
	public := func(name string) string { return strings.TrimSpace(p.must("key", "show", name, "--line").out) }
	p.write(p.signed("sshd_host", "ca", ssh.Certificate{CertType: ssh.HostCert,
		ValidPrincipals: []string{"127.0.0.1"}}),
		"sshd", "host-cert.pub")
	port := freePort(t)
	p.write(fmt.Sprintf("ListenAddress 127.0.0.1:%d\nHostKey %s\nHostCertificate %s\nPidFile none\nUsePAM no\nStrictModes no\n",
		port, p.path(".ssh", "sshd_host"), p.path("sshd", "host-cert.pub")), "sshd", "config")
	if err := os.MkdirAll("/run/sshd", 0o755); err != nil {
		t.Fatal(err)
	}
	p.startServer(port)
	at := fmt.Sprintf("[127.0.0.1]:%d", port)
	connect := func() string {
		return l.run(true, "ssh", "-o", "BatchMode=yes", "-p", fmt.Sprint(port), "127.0.0.1", "true").err
	}
	if said := connect(); !strings.Contains(said, "Host key verification failed") {
		t.Fatalf("nobody knows the host: %s", said)
	}
	file := l.path("state", "state.toml")
	trusted := "unicrux = 1\n[[trust]]\nauthority = \"" + public("ca") + "\"\nhosts = [\"" + at + "\"]\n"
	l.write(trusted, "state", "state.toml")
	l.root(0, "apply", file)
	if said := connect(); !strings.Contains(said, "Permission denied (publickey") {
		t.Errorf("an authority signed it: %s", said)
	}
	l.write(at+" "+public("sshd_host")+"\nquay.example "+public("ca")+"\n", "home", "newcomer", ".ssh", "known_hosts")
	if out, err := exec.Command("chown", "-R", "4321:4321", l.path("home", "newcomer")).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	l.write("unicrux = 1\n[[distrust]]\nkey = \""+public("sshd_host")+"\"\nwhy = \"it leaked\"\n", "state",
		"state.toml")
	stored := l.read("home", "newcomer", ".ssh", "known_hosts")
	l.root(0, "apply", file)
	if said := connect(); !strings.Contains(said, "REVOKED") {
		t.Errorf("it is distrusted: %s", said)
	}
	if r := l.root(0, "audit", "--home", l.path("home", "newcomer")); !strings.Contains(r.out, "host-key-distrusted") ||
		l.read("home", "newcomer", ".ssh", "known_hosts") != stored {
		t.Errorf("%s", r)
	}
	if r := l.root(1, "apply", file, "--homes", "--dry-run", "--json"); !strings.Contains(r.out, "newcomer") ||
		l.read("home", "newcomer", ".ssh", "known_hosts") != stored {
		t.Errorf("a dry run: %s", r)
	}
	l.root(0, "apply", file, "--homes")
	if left := l.read("home", "newcomer", ".ssh", "known_hosts"); left != "quay.example "+public("ca")+"\n" {
		t.Errorf("left: %s", left)
	}
	if r := l.root(0, "apply", file, "--homes", "--json"); !strings.Contains(r.out, `"changed": false`) {
		t.Errorf("the second run: %s", r)
	}
	l.newcomer(0, "undo")
	if l.read("home", "newcomer", ".ssh", "known_hosts") != stored {
		t.Error("undo brings the line back")
	}
}
