package acceptance

import (
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"os/exec"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"anchorage.example/unicrux/agreement"
)

// TestKeyFormsAgree puts private keys of every form into the place of the one that settings name: git and check
// get in with the same ones, and what the others are is said.
func TestKeyFormsAgree(t *testing.T) {
	t.Parallel()
	tally := agreement.Of(t, "ssh: forms of private keys")
	who := loginUser(t)
	p := newPerson(t)
	old, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		t.Fatal(err)
	}
	curve, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	_, edwards, err := ed25519.GenerateKey(nil)
	if err != nil {
		t.Fatal(err)
	}
	block := func(kind string, der []byte, err error) string {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
		return string(pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: der}))
	}
	pkcs1 := block("RSA PRIVATE KEY", x509.MarshalPKCS1PrivateKey(old), nil)
	der, err := x509.MarshalECPrivateKey(curve)
	sec1 := block("EC PRIVATE KEY", der, err)
	pkcs8 := func(key any) string {
		der, err := x509.MarshalPKCS8PrivateKey(key)
		return block("PRIVATE KEY", der, err)
	}
	form, err := ssh.MarshalPrivateKey(edwards, "")
	if err != nil {
		t.Fatal(err)
	}
	openssh := string(pem.EncodeToMemory(form))
	certificate, _ := p.certificate(-time.Hour, time.Hour, "x.example")
	first := block("CERTIFICATE", certificate, nil)
	p.write(sec1, "sec1")
	explicit, err := exec.Command(need(t, "openssl"), "ec", "-in", p.path("sec1"), "-param_enc", "explicit").Output()
	if err != nil {
		t.Fatal(err)
	}
	lines := ""
	for _, key := range []any{old.Public(), curve.Public(), edwards.Public()} {
		public, err := ssh.NewPublicKey(key)
		if err != nil {
			t.Fatal(err)
		}
		lines += string(ssh.MarshalAuthorizedKey(public))
	}
	port, line := p.sshd(lines)
	p.write(fmt.Sprintf("[127.0.0.1]:%d %s", port, line), ".ssh", "known_hosts")
	p.write("IdentityFile "+p.path(".ssh", "some")+"\nIdentitiesOnly yes\nUserKnownHostsFile "+p.path(".ssh",
		"known_hosts")+"\n", ".ssh", "config")
	p.mustGit("init", "--quiet", "--bare", "there")
	url := fmt.Sprintf("ssh://%s@127.0.0.1:%d%s", who.Username, port, p.path("there"))
	for _, row := range []struct{ name, text, said string }{
		{"OpenSSH", openssh, ""},
		{"PKCS#1", pkcs1, ""},
		{"SEC 1", sec1, ""},
		{"PKCS#8, RSA", pkcs8(old), ""},
		{"PKCS#8, a curve", pkcs8(curve), ""},
		{"parameters before it",
			"-----BEGIN EC PARAMETERS-----\nBggqhkjOPQMBBw==\n-----END EC PARAMETERS-----\n" + sec1, ""},
		{"a certificate before it", first + pkcs1, ""},
		{"a certificate behind it", pkcs1 + first, ""},
		{"words before it", "Bag Attributes\n    friendlyName: tide\n" + pkcs8(old), ""},
		{"PKCS#1, line ends of another system", strings.ReplaceAll(pkcs1, "\n", "\r\n"), ""},
		{"OpenSSH, line ends of another system", strings.ReplaceAll(openssh, "\n", "\r\n"), "its lines end"},
		{"OpenSSH, a certificate before it", first + openssh, "before its first line"},
		{"OpenSSH, an invisible mark before it", "\ufeff" + openssh, "before its first line"},
		{"PKCS#1, an invisible mark before it", "\ufeff" + pkcs1, ""},
		{"PKCS#8, ed25519", pkcs8(edwards), "before 9.6"},
		{"DER", string(der), "in DER"},
		{"a public key", block("PUBLIC KEY", mustPKIX(t, old.Public()), nil), "key-file-public"},
		{"another family's", "Other-User-Key-File-3: ssh-ed25519\nEncryption: none\n", "another family"},
		{"no key", "tide\n", "not a private key"},
	} {
		p.write(row.text, ".ssh", "some")
		p.chmod(0o600, ".ssh", "some")
		real, c := p.git("ls-remote", url), p.check(url)
		tally.Case((real.exit == 0) == (row.said == "") && c.Open == (row.said == ""),
			"%s: git ends with %s, and check finds %+v", row.name, real, c.Crux)
		if row.said != "" && c.Crux != nil && !strings.Contains(c.Crux.Code+strings.Join(c.Crux.Evidence, "\n"),
			row.said) {
			t.Errorf("%s: what it is, is not said: %+v", row.name, c.Crux)
		}
	}
	p.write(string(explicit), ".ssh", "some")
	if r := p.unicrux("key", "show", "some"); !strings.Contains(strings.Join(strings.Fields(r.err), " "),
		"a curve that is written out in numbers") {
		t.Errorf("a curve in numbers: %s", r)
	}
}

// TestNewerForm: a key in a form that ssh reads since 9.6 is offered where the installed ssh is of that age.
func TestNewerForm(t *testing.T) {
	t.Parallel()
	who := loginUser(t)
	p := newPerson(t)
	public, private, err := ed25519.GenerateKey(nil)
	if err != nil {
		t.Fatal(err)
	}
	der, err := x509.MarshalPKCS8PrivateKey(private)
	if err != nil {
		t.Fatal(err)
	}
	key, err := ssh.NewPublicKey(public)
	if err != nil {
		t.Fatal(err)
	}
	p.write(string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der})), ".ssh", "some")
	p.chmod(0o600, ".ssh", "some")
	port, line := p.sshd(string(ssh.MarshalAuthorizedKey(key)))
	p.write(fmt.Sprintf("[127.0.0.1]:%d %s", port, line), ".ssh", "known_hosts")
	p.write("IdentityFile "+p.path(".ssh", "some")+"\nIdentitiesOnly yes\nUserKnownHostsFile "+p.path(".ssh",
		"known_hosts")+"\n", ".ssh", "config")
	p.mustGit("init", "--quiet", "--bare", "there")
	url := fmt.Sprintf("ssh://%s@127.0.0.1:%d%s", who.Username, port, p.path("there"))
	for version, opens := range map[string]bool{"9.2p1": false, "9.7p1": true} {
		p.write("#!/bin/sh\n[ \"$1\" = -V ] && { echo OpenSSH_"+version+" >&2; exit 0; }\nexec "+need(t,
			"ssh")+" \"$@\"\n", "bin", "ssh")
		p.chmod(0o700, "bin", "ssh")
		p.extra, p.without = []string{"GIT_SSH_COMMAND=" + p.path("bin", "ssh") + " -F " + p.path(".ssh",
			"config")}, nil
		if c := p.check(url); c.Open != opens {
			t.Errorf("%s: %+v", version, c.Crux)
		}
	}
}

func mustPKIX(t *testing.T, key any) []byte {
	t.Helper()
	der, err := x509.MarshalPKIXPublicKey(key)
	if err != nil {
		t.Fatal(err)
	}
	return der
}
