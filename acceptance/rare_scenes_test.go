package acceptance

import (
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"slices"
	"strings"
	"testing"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"
)

// TestWordsOfAHost lets a real sshd answer in place of git, with words as hosts of any kind
// use them.
func TestWordsOfAHost(t *testing.T) {
	t.Parallel()
	who := loginUser(t)
	for code, words := range map[string]string{
		"key-other-account":   "backup-only: command not permitted",
		"repository-frozen":   "drift was archived and is read-only.",
		"account-blocked":     "This account is currently not available.",
		"host-limits":         "Too many requests. Try again later.",
		"host-failing":        "git-upload-pack: command not found",
		"repository-not-git":  "fatal: not a git repository",
		"repository-missing":  "remote: Not found.",
		"address-not-allowed": "Your IP address is not on the allow list.",
		"key-ended":           "This SSH key has expired.",
	} {
		t.Run(code, func(t *testing.T) {
			t.Parallel()
			p := settled(t)
			p.must("key", "new", "spare", "--no-passphrase")
			both := p.must("key", "show", "forge_ed25519", "--line").out + p.must("key", "show", "spare", "--line").out
			port, _ := p.sshd(both, fmt.Sprintf("ForceCommand echo '%s' >&2; exit 1", words))
			p.write(
				fmt.Sprintf(
					"Host words.example\n  HostName 127.0.0.1\n  Port %d\n  User %s\n  IdentityFile %s\n  UserKnownHostsFile %s\n",
					port,
					who.Username,
					p.path(".ssh", "forge_ed25519"),
					p.path(".ssh", "known_hosts"),
				),
				".ssh",
				"config",
			)
			p.must("host", "trust", "words.example", "--fingerprint", p.fingerprint("sshd_host"))
			p.wants("words.example:x", code)
			if code == "host-limits" {
				p.leavesInPeace("words.example:x")
			}
			if c := p.check("words.example:x"); !strings.Contains(strings.Join(c.Crux.Evidence, "\n"), words) {
				t.Errorf("the host's words are not told: %q", c.Crux.Evidence)
			}
		})
	}
}

// leavesInPeace makes sure that a check signs in once, whatever other keys are here.
func (p *person) leavesInPeace(url string) {
	p.t.Helper()
	accepted := func() int { return strings.Count(p.read("sshd", "log"), "Accepted publickey") }
	before := accepted()
	p.check(url)
	if n := accepted() - before; n != 1 {
		p.t.Errorf("the host was signed in to %d times", n)
	}
}

// A stubbornAgent holds keys and signs nothing.
type stubbornAgent struct{ agent.Agent }

func (stubbornAgent) Sign(ssh.PublicKey, []byte) (*ssh.Signature, error) {
	return nil, errors.New("not now")
}

// TestAgentDeclines has the right key in an agent that does not sign with it.
func TestAgentDeclines(t *testing.T) {
	t.Parallel()
	p := settled(t)
	private, err := ssh.ParseRawPrivateKey([]byte(p.read(".ssh", "forge_ed25519")))
	if err != nil {
		t.Fatal(err)
	}
	keyring := agent.NewKeyring()
	if err := keyring.Add(agent.AddedKey{PrivateKey: private}); err != nil {
		t.Fatal(err)
	}
	socket := p.path("agent.sock")
	listener, err := net.Listen("unix", socket)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = listener.Close() })
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			go func() { _ = agent.ServeAgent(stubbornAgent{keyring}, conn) }()
		}
	}()
	p.remove(".ssh", "forge_ed25519") // only its public half stays, by which the agent's is found
	p.extra = append(p.extra, "SSH_AUTH_SOCK="+socket)
	p.wants(drift, "agent-refused")
}

// TestWeakKey signs in with an RSA key of 2048 bits, which works and is told.
func TestWeakKey(t *testing.T) {
	t.Parallel()
	p := settled(t)
	private, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		t.Fatal(err)
	}
	block, err := ssh.MarshalPrivateKey(private, "old")
	if err != nil {
		t.Fatal(err)
	}
	p.write(string(pem.EncodeToMemory(block)), ".ssh", "id_rsa")
	p.must("key", "register", "id_rsa", "forge", "--token-from", p.host.TokenFile())
	p.wants(drift, "")
	c := p.check(drift)
	if len(c.Notes) != 2 || c.Notes[1].Code != "key-weak" {
		t.Errorf("notes %+v", c.Notes)
	}
	if r := p.must("key", "list"); !strings.Contains(r.out, "rsa 2048") {
		t.Errorf("key list: %s", r)
	}
}

// leaveWeakKey leaves an RSA key of 1024 bits in the ssh folder.
func (p *person) leaveWeakKey() {
	p.t.Helper()
	private, err := rsa.GenerateKey(rand.Reader, 1024)
	if err != nil {
		p.t.Fatal(err)
	}
	p.write(string(pem.EncodeToMemory(&pem.Block{Type: "RSA PRIVATE KEY",
		Bytes: x509.MarshalPKCS1PrivateKey(private)})), ".ssh", "id_rsa")
}

// TestWeakKeyIsNotRegistered makes a better key in place of a leftover.
func TestWeakKeyIsNotRegistered(t *testing.T) {
	t.Parallel()
	p := withHost(t)
	p.leaveWeakKey()
	p.write(p.read(".ssh", "config")+"IdentityFile "+p.path(".ssh", "id_rsa")+"\n", ".ssh", "config")
	r := p.must(p.readyArgs()...)
	if !strings.Contains(r.out, "Make a better key, unless forge knows the weak one") ||
		!p.exists(".ssh", "forge_ed25519") || !p.exists("drift-model") {
		t.Errorf("%s", r)
	}
	if c := p.check(drift); !c.Open || len(c.Notes) != 1 {
		t.Errorf("%+v, notes %+v", c.Crux, c.Notes)
	}
}

// TestChangedKeyAndNowhereToStoreIt has the old key in the system's file, and none of the
// person's own.
func TestChangedKeyAndNowhereToStoreIt(t *testing.T) {
	t.Parallel()
	p := settled(t)
	p.staleHostKey()
	p.edit("UserKnownHostsFile "+p.path(".ssh", "known_hosts"),
		"UserKnownHostsFile none\n    GlobalKnownHostsFile "+p.path(".ssh", "known_hosts"), ".ssh", "unicrux.conf")
	p.wants(drift, "host-key-changed")
	if c := p.check(drift); len(c.Mends) != 1 || *c.Mends[0].Automatic {
		t.Errorf("mends %+v", c.Mends)
	}
	if r := p.unicrux("host", "trust", "forge"); r.exit != 1 ||
		!strings.Contains(r.err, "no file in which host keys are stored") {
		t.Errorf("%s", r)
	}
}

// inNamespace is the command by which another one runs in namespaces of its own (unshare(1)); in CI it must work.
func inNamespace(t *testing.T, options ...string) []string {
	t.Helper()
	command := append([]string{need(t, "unshare")}, options...)
	if err := exec.Command(command[0], append(command[1:], "true")...).Run(); err != nil && os.Getenv("CI") == "" {
		t.Skipf("no namespace may be made here: unshare %s", strings.Join(options, " "))
	}
	return command
}

// ownNetwork is the command by which another one runs in a network of its own, in which nothing is up.
func ownNetwork(t *testing.T) []string {
	t.Helper()
	if os.Geteuid() != 0 {
		return inNamespace(t, "--net", "--map-root-user")
	}
	return inNamespace(t, "--net")
}

// TestWithoutANetwork goes nowhere: in a network namespace of its own not even loopback is up.
func TestWithoutANetwork(t *testing.T) {
	t.Parallel()
	p := settled(t)
	unshare := ownNetwork(t)
	run := func(name string, args ...string) result {
		return p.run("", unshare[0], append(append(unshare[1:], name), args...)...)
	}
	if r := run("git", "ls-remote", drift); r.exit == 0 {
		t.Fatalf("git works: %s", r)
	}
	if r := run(program, "check", "--json", drift); r.exit != 1 || !strings.Contains(r.out, `"code": "network-down"`) {
		t.Errorf("%s", r)
	}
}

// TestUnlistedUser is somebody whose number the password database does not know, as in many
// containers: ssh does not run, and ready goes by HTTPS.
func TestUnlistedUser(t *testing.T) {
	t.Parallel()
	p := withHost(t).withChest()
	unshare := inNamespace(t, "--user", "--map-user=54321")
	run := func(name string, args ...string) result {
		return p.run("", unshare[0], append(append(unshare[1:], name), args...)...)
	}
	failed := run("git", "ls-remote", drift)
	if failed.exit == 0 {
		t.Fatalf("git works: %s", failed)
	}
	if r := run(program, "check", "--json", drift); r.exit != 1 ||
		!strings.Contains(r.out, `"code": "user-unlisted"`) || !strings.Contains(r.out, "proved") ||
		!strings.Contains(r.out, "No user exists for uid 54321") {
		t.Errorf("%s", r)
	}
	if r := p.run(failed.err, program, "explain", "--json"); !strings.Contains(r.out, `"code": "user-unlisted"`) {
		t.Errorf("%s", r)
	}
	r := run(program, "ready", drift, "--token-from", p.host.TokenFile(), "--chest-passphrase-from",
		p.path("chest-words"))
	if r.exit != 0 || !strings.Contains(r.err, "SSH does not work here (user-unlisted). Going by HTTPS") ||
		!strings.Contains(r.out, "Cloned into") {
		t.Fatalf("ready: %s", r)
	}
	if r := run("git", "-C", "drift-model", "fetch"); r.exit != 0 {
		t.Errorf("afterwards: %s", r)
	}
	p.without = append(p.without, "HOME")
	if r := run(program, "check", drift); r.exit != 3 || !strings.Contains(r.err, "HOME is not set") {
		t.Errorf("without a home: %s", r)
	}
	p.without = nil
}

// TestHostWithoutAnInterface is told what to paste, and stops where a person is needed.
func TestHostWithoutAnInterface(t *testing.T) {
	t.Parallel()
	p := withHost(t)
	text, err := os.ReadFile(p.host.DescriptionFile())
	if err != nil {
		t.Fatal(err)
	}
	public := strings.TrimSpace(string(ssh.MarshalAuthorizedKey(p.host.HostKey())))
	plain, _, _ := strings.Cut(string(text), "[interface]")
	p.write(strings.Replace(plain, "[ssh]", "[ssh]\nhost-keys = [\""+public+"\"]", 1), "plain.toml")
	p.must("host", "add", p.path("plain.toml"), "--yes")
	if r := p.must("host", "show", "forge"); !strings.Contains(r.out, "Everything is done on its web page") {
		t.Errorf("host show: %s", r)
	}
	r := p.unicrux("ready", drift, "--no-passphrase")
	if r.exit != 1 || !strings.Contains(r.out, "unicrux key register forge_ed25519 forge --by-hand") ||
		!strings.Contains(r.out, "Stored the host key") {
		t.Fatalf("ready: %s", r)
	}
	key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(p.must("key", "show", "forge_ed25519", "--line").out))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := p.host.Register("ines.marlow", "pasted", key); err != nil {
		t.Fatal(err)
	}
	p.must("key", "register", "forge_ed25519", "forge", "--wait", "0s")
	p.must("ready", drift)
}

// TestKeyInADevice has a key whose private half is in a device that is not plugged in.
func TestKeyInADevice(t *testing.T) {
	t.Parallel()
	p := settled(t)
	public := ssh.Marshal(struct {
		Name   string
		Public []byte
		App    string
	}{ssh.KeyAlgoSKED25519, p.rawPublic("forge_ed25519"), "ssh:"})
	private := ssh.Marshal(struct {
		Check1, Check2   uint32
		Name             string
		Public           []byte
		App              string
		Flags            byte
		Handle, Reserved []byte
		Comment          string
		P1, P2, P3       byte
	}{7, 7, ssh.KeyAlgoSKED25519, p.rawPublic("forge_ed25519"), "ssh:", 1, []byte("handle"), nil,
		"in a device", 1, 2, 3})
	for i := byte(4); len(private)%8 != 0; i++ {
		private = append(private, i)
	}
	body := ssh.Marshal(struct {
		Cipher, KDF, KDFOptions string
		Keys                    uint32
		Public, Private         []byte
	}{"none", "none", "", 1, public, private})
	p.write(string(pem.EncodeToMemory(&pem.Block{Type: "OPENSSH PRIVATE KEY",
		Bytes: append([]byte("openssh-key-v1\x00"), body...)})), ".ssh", "device")
	if r := p.must("key", "show", "device"); !strings.Contains(r.out, "ed25519-sk") {
		t.Errorf("%s", r)
	}
	p.must("host", "set", "forge", "key=device")
	key, err := ssh.ParsePublicKey(public)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := p.host.Register("ines.marlow", "in a device", key); err != nil {
		t.Fatal(err)
	}
	p.wants(drift, "key-in-device")
	p.must("host", "set", "forge", "key=forge_ed25519")
	p.wants(drift, "")
}

// rawPublic is the 32 bytes of an ed25519 key.
func (p *person) rawPublic(name string) []byte {
	p.t.Helper()
	key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(p.must("key", "show", name, "--line").out))
	if err != nil {
		p.t.Fatal(err)
	}
	blob := key.Marshal()
	return blob[len(blob)-32:]
}

// TestFirewallHere has a rule on this workstation that forbids connections to a host.
func TestFirewallHere(t *testing.T) {
	t.Parallel()
	p := newPerson(t)
	p.write("", ".ssh", "config")
	need(t, "ip")
	unshare := ownNetwork(t)
	run := func(name string, args ...string) result {
		inside := []string{"sh", "-c", `ip link set lo up && ip route add prohibit 192.0.2.7 && exec "$@"`, "sh", name}
		return p.run("", unshare[0], slices.Concat(unshare[1:], inside, args)...)
	}
	for _, url := range []string{"git@192.0.2.7:buoys/drift-model.git", "https://192.0.2.7/buoys/drift-model.git"} {
		failed := run("git", "ls-remote", url)
		r := run(program, "check", "--json", url)
		if failed.exit == 0 || r.exit != 1 || !strings.Contains(r.out, `"code": "firewall-here"`) {
			t.Errorf("%s: %s: %s", url, failed, r)
		}
		if strings.HasPrefix(url, "git@") { // over HTTPS git does not say why
			p.explains(failed, "firewall-here")
		}
	}
}
