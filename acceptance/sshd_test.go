package acceptance

import (
	"crypto/rand"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"golang.org/x/crypto/ssh"
)

// sshd starts a real one on loopback that takes the given public lines, and returns its port.
func (p *person) sshd(publicLines string, options ...string) (port int, hostKeyLine string) {
	p.t.Helper()
	need(p.t, "sshd")
	if os.Geteuid() == 0 { // where it drops its rights; Debian makes the folder only with the service
		if err := os.MkdirAll("/run/sshd", 0o755); err != nil {
			p.t.Fatal(err)
		}
	}
	p.must("key", "new", "sshd_host", "--no-passphrase")
	p.write(publicLines, "sshd", "authorized")
	port = freePort(p.t)
	config := fmt.Sprintf("ListenAddress 127.0.0.1:%d\nHostKey %s\nAuthorizedKeysFile %s\nPidFile none\nUsePAM no\nStrictModes no\n%s\n",
		port, p.path(".ssh", "sshd_host"), p.path("sshd", "authorized"), strings.Join(options, "\n"))
	p.write(config, "sshd", "config")
	p.startServer(port)
	return port, p.must("key", "show", "sshd_host", "--line").out
}

// startServer starts an sshd that is configured, and waits until it listens.
func (p *person) startServer(port int) {
	p.t.Helper()
	cmd := exec.Command(need(p.t, "sshd"), "-D", "-e", "-f", p.path("sshd", "config"))
	log, err := os.OpenFile(p.path("sshd", "log"), os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o600)
	if err != nil {
		p.t.Fatal(err)
	}
	cmd.Stderr = log
	if err := cmd.Start(); err != nil {
		p.t.Fatal(err)
	}
	stopped := false
	p.stopServer = func() {
		if !stopped {
			stopped = true
			_ = cmd.Process.Kill()
			_ = cmd.Wait()
			_ = log.Close()
		}
	}
	p.t.Cleanup(func() {
		p.stopServer()
		if p.t.Failed() {
			p.t.Log("sshd said:\n" + p.read("sshd", "log"))
		}
	})
	eventually(p.t, "sshd", func() bool {
		conn, err := net.Dial("tcp", "127.0.0.1:"+strconv.Itoa(port))
		if err == nil {
			_ = conn.Close()
		}
		return err == nil
	})
}

// TestRealServer checks ways to a real sshd that no description knows, and signs in there
// with keys of ours, locked and not.
func TestRealServer(t *testing.T) {
	t.Parallel()
	p := newPerson(t)
	who := loginUser(t)
	p.write("seven tides", "passphrase")
	p.must("key", "new", "open", "--no-passphrase")
	p.must("key", "new", "locked", "--passphrase-from", p.path("passphrase"))
	port, hostKey := p.sshd(p.must("key", "show", "open", "--line").out + p.must("key", "show", "locked", "--line").out)
	p.mustGit("init", "--quiet", "--bare", p.path("repo.git"))
	url := fmt.Sprintf("ssh://%s@127.0.0.1:%d%s", who.Username, port, p.path("repo.git"))
	p.write(fmt.Sprintf("UserKnownHostsFile %s\nIdentitiesOnly yes\nIdentityFile %s\n", p.path(".ssh", "known_hosts"),
		p.path(".ssh", "open")), ".ssh", "config")

	p.wants(url, "host-key-unknown")
	fingerprint := p.fingerprint("sshd_host")
	target := fmt.Sprintf("127.0.0.1:%d", port)
	if r := p.unicrux("host", "trust", target); r.exit != 1 || !strings.Contains(r.err, fingerprint) {
		t.Errorf("trust without anything to compare with: %s", r)
	}
	if r := p.unicrux("host", "trust", target, "--fingerprint", p.fingerprint("open")); r.exit != 1 ||
		p.exists(".ssh", "known_hosts") {
		t.Errorf("trust with a wrong fingerprint: %s", r)
	}
	p.must("host", "trust", target, "--fingerprint", fingerprint)
	if stored := p.read(".ssh", "known_hosts"); !strings.Contains(stored, strings.Fields(hostKey)[1]) {
		t.Errorf("stored: %s", stored)
	}
	p.wants(url, "")
	p.wants(strings.Replace(url, "repo.git", "none.git", 1), "repository-missing")
	if err := os.Mkdir(p.path("plain"), 0o700); err != nil {
		t.Fatal(err)
	}
	p.wants(strings.Replace(url, "repo.git", "plain", 1), "repository-not-git")

	p.edit("/open", "/locked", ".ssh", "config")
	p.wants(url, "key-locked")
	if c := p.check("--passphrase-from", p.path("passphrase"), url); !c.Open {
		t.Errorf("with the passphrase the crux is %+v", c.Crux)
	}
	p.write("six tides", "wrong")
	if c := p.check("--passphrase-from", p.path("wrong"), url); c.Open || c.Crux.Code != "passphrase-wrong" {
		t.Errorf("with a wrong passphrase: %+v", c.Crux)
	}
	p.agent()
	p.must("key", "load", "locked", "--passphrase-from", p.path("passphrase"))
	p.wants(url, "")
	p.must("key", "unload", "locked")
	p.wants(url, "key-locked")
}

// TestHostCertificate meets a host that proves itself by a certificate of an authority.
func TestHostCertificate(t *testing.T) {
	t.Parallel()
	p := settled(t)
	who := loginUser(t)
	p.must("key", "new", "authority", "--no-passphrase")
	authority, err := ssh.ParsePrivateKey([]byte(p.read(".ssh", "authority")))
	if err != nil {
		t.Fatal(err)
	}
	port, hostKey := p.sshd(p.must("key", "show", "forge_ed25519", "--line").out,
		"HostCertificate "+p.path("sshd", "certificate.pub"))
	p.usePort(port)
	public, _, _, _, err := ssh.ParseAuthorizedKey([]byte(hostKey))
	if err != nil {
		t.Fatal(err)
	}
	certificate := &ssh.Certificate{Key: public, CertType: ssh.HostCert, ValidPrincipals: []string{"127.0.0.1"},
		ValidBefore: ssh.CertTimeInfinity}
	if err := certificate.SignCert(rand.Reader, authority); err != nil {
		t.Fatal(err)
	}
	p.write(string(ssh.MarshalAuthorizedKey(certificate)), "sshd", "certificate.pub")
	p.stopServer()
	p.startServer(port)
	p.mustGit("init", "--quiet", "--bare", p.path("repo.git"))
	url := "ssh://" + who.Username + "@forge.tidewater.example" + p.path("repo.git")
	line := strings.TrimSpace(p.must("key", "show", "authority", "--line").out)
	p.write("@cert-authority * "+line+"\n", ".ssh", "known_hosts")
	p.wants(url, "")
	p.write("", ".ssh", "known_hosts")
	p.wants(url, "host-key-wrong") // the description publishes another key than this server's
	p.write("[127.0.0.1]:"+strconv.Itoa(port)+" "+hostKey, ".ssh", "known_hosts")
	p.wants(url, "")
}

// TestTooManyKeys lets a real sshd hang up before the right key is tried.
func TestTooManyKeys(t *testing.T) {
	t.Parallel()
	p := newPerson(t)
	who := loginUser(t)
	config := "UserKnownHostsFile " + p.path(".ssh", "known_hosts") + "\nIdentitiesOnly yes\n"
	for i := range 4 {
		name := "key" + strconv.Itoa(i)
		p.must("key", "new", name, "--no-passphrase")
		config += "IdentityFile " + p.path(".ssh", name) + "\n"
	}
	port, _ := p.sshd(p.must("key", "show", "key3", "--line").out, "MaxAuthTries 2")
	p.mustGit("init", "--quiet", "--bare", p.path("repo.git"))
	p.write(config, ".ssh", "config")
	p.must("host", "trust", fmt.Sprintf("127.0.0.1:%d", port), "--fingerprint", p.fingerprint("sshd_host"))
	url := fmt.Sprintf("ssh://%s@127.0.0.1:%d%s", who.Username, port, p.path("repo.git"))
	p.wants(url, "keys-too-many")
	p.edit("IdentityFile "+p.path(".ssh", "key0"), "# "+p.path(".ssh", "key0"), ".ssh", "config")
	p.edit("IdentityFile "+p.path(".ssh", "key1"), "# "+p.path(".ssh", "key1"), ".ssh", "config")
	p.edit("IdentityFile "+p.path(".ssh", "key2"), "# "+p.path(".ssh", "key2"), ".ssh", "config")
	p.wants(url, "")
}

// TestThroughAJumpHost goes by ProxyJump and by ProxyCommand, as ssh does.
func TestThroughAJumpHost(t *testing.T) {
	t.Parallel()
	p := settled(t)
	who := loginUser(t)
	port, _ := p.sshd(p.must("key", "show", "forge_ed25519", "--line").out)
	jump := fmt.Sprintf("Host jump\n  HostName 127.0.0.1\n  Port %d\n  User %s\n  IdentityFile %s\n",
		port, who.Username, p.path(".ssh", "forge_ed25519"))
	own := p.read(".ssh", "config") + "UserKnownHostsFile " + p.path(".ssh", "known_hosts") + "\n"
	p.write(own+jump, ".ssh", "config")
	p.must("host", "trust", fmt.Sprintf("127.0.0.1:%d", port), "--fingerprint", p.fingerprint("sshd_host"))

	p.write(own+jump+"Host forge.tidewater.example\n  ProxyJump jump\n", ".ssh", "config")
	p.wants(drift, "")
	p.write(own+jump+"Host forge.tidewater.example\n  ProxyCommand ssh -F "+p.path(".ssh",
		"config")+" -W %h:%p jump\n", ".ssh", "config")
	p.wants(drift, "")
	p.write(own+"Host forge.tidewater.example\n  ProxyCommand echo no way >&2; false\n", ".ssh", "config")
	p.wants(drift, "proxy-command-failed")
	p.write(own+strings.Replace(jump, strconv.Itoa(port), strconv.Itoa(freePort(t)),
		1)+"Host forge.tidewater.example\n  ProxyJump jump\n", ".ssh", "config")
	p.wants(drift, "jump-failed")
	if c := p.check(drift); !strings.Contains(strings.Join(c.Crux.Evidence, " "), "port-refused") {
		t.Errorf("the crux of the jump host is not told: %q", c.Crux.Evidence)
	}
	p.write(own+strings.Replace(jump, "forge_ed25519", "sshd_host",
		1)+"Host forge.tidewater.example\n  ProxyJump jump\n", ".ssh", "config")
	p.wants(drift, "jump-failed")
	if c := p.check(drift); !strings.Contains(strings.Join(c.Crux.Evidence, " "), "key-not-offered") ||
		len(c.Mends) == 0 || !slices.Contains(c.Mends[0].Command, "jump") {
		t.Errorf("the crux of the jump host is not told: %q, %+v", c.Crux.Evidence, c.Mends)
	}
}

// wants holds check against the real client: both succeed, or both fail and the crux is code.
func (p *person) wants(url, code string) {
	p.t.Helper()
	real, c := p.git("ls-remote", url), p.check(url)
	if (real.exit == 0) != c.Open {
		p.t.Fatalf("git ends with %s, and check finds %+v", real, c.Crux)
	}
	if code != "" {
		p.explains(real, code)
		p.performed(code, c)
	}
	if code != "" && (c.Open || c.Crux.Code != code) {
		p.t.Fatalf("the crux is %+v, want %s", c.Crux, code)
	}
	if code == "" && !c.Open {
		p.t.Fatalf("both fail, check with %+v: %s", c.Crux, real)
	}
}

func (p *person) fingerprint(key string) string {
	p.t.Helper()
	for line := range strings.Lines(p.must("key", "show", key).out) {
		if fields := strings.Fields(line); len(fields) == 2 && fields[0] == "fingerprint" {
			return fields[1]
		}
	}
	p.t.Fatalf("key show %s tells no fingerprint", key)
	return ""
}

func (p *person) exists(parts ...string) bool {
	_, err := os.Lstat(filepath.Join(append([]string{p.home}, parts...)...))
	return err == nil
}
