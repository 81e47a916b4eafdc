package acceptance

import (
	"fmt"
	"net"
	"strings"
	"testing"
	"time"

	"anchorage.example/unicrux/agreement"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"
)

// holds starts an agent that holds keys of this home, some with a certificate: by the name of the key, the
// certificate or nothing.
func (p *person) holds(keys map[string]string) {
	p.t.Helper()
	ring := agent.NewKeyring()
	for name, line := range keys {
		private, err := ssh.ParseRawPrivateKey([]byte(p.read(".ssh", name)))
		if err != nil {
			p.t.Fatal(err)
		}
		add := agent.AddedKey{PrivateKey: private, Comment: name}
		if line != "" {
			key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(line))
			if err != nil {
				p.t.Fatal(err)
			}
			add.Certificate = key.(*ssh.Certificate)
		}
		if err := ring.Add(add); err != nil {
			p.t.Fatal(err)
		}
	}
	socket := p.path("held.sock")
	listener, err := net.Listen("unix", socket)
	if err != nil {
		p.t.Fatal(err)
	}
	p.t.Cleanup(func() { _ = listener.Close() })
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			go func() { _ = agent.ServeAgent(ring, conn); _ = conn.Close() }()
		}
	}()
	p.extra = append(p.extra, "SSH_AUTH_SOCK="+socket)
}

// TestUserCertificates signs in by certificates, in every way in which ssh takes them, and names what is wrong
// with one: git and check agree.
func TestUserCertificates(t *testing.T) {
	t.Parallel()
	who := loginUser(t)
	me := ssh.Certificate{CertType: ssh.UserCert, KeyId: "Ines Marlow", ValidPrincipals: []string{who.Username}}
	at := func(from, until time.Duration) ssh.Certificate {
		c := me
		c.ValidAfter, c.ValidBefore = uint64(time.Now().Add(from).Unix()), uint64(time.Now().Add(until).Unix())
		return c
	}
	whose := func(names ...string) ssh.Certificate { c := me; c.ValidPrincipals = names; return c }
	beside := func(name string, form ssh.Certificate, by string) func(*person) string {
		return func(p *person) string {
			p.write(p.signed(name, by, form), ".ssh", name+"-cert.pub")
			return "IdentityFile ~/.ssh/" + name + "\n"
		}
	}
	tally := agreement.Of(t, "ssh: certificates of people")
	for _, row := range []struct {
		name, code string
		arrange    func(p *person) string // ssh's settings
	}{
		{"beside the key", "", beside("mine", me, "ca")},
		{"of an RSA key", "", beside("old", me, "ca")},
		{"without expiry", "", beside("mine",
			func() ssh.Certificate { c := me; c.ValidBefore = ssh.CertTimeInfinity; return c }(), "ca")},
		{"that settings name", "", func(p *person) string {
			p.write(p.signed("mine", "ca", me), "mine.cert")
			return "IdentityFile ~/.ssh/mine\nCertificateFile ~/mine.cert\n"
		}},
		{"that settings name, and an ended one beside the key", "", func(p *person) string {
			beside("mine", at(-2*time.Hour, -time.Hour), "ca")(p)
			p.write(p.signed("mine", "ca", me), "mine.cert")
			return "IdentityFile ~/.ssh/mine\nCertificateFile ~/mine.cert\n"
		}},
		{"in the agent alone", "", func(p *person) string {
			p.holds(map[string]string{"mine": p.signed("mine", "ca", me)})
			p.remove(".ssh", "mine")
			p.remove(".ssh", "mine.pub")
			return ""
		}},
		{"beside the key, which the agent holds", "", func(p *person) string {
			p.holds(map[string]string{"mine": ""})
			return beside("mine", me, "ca")(p)
		}},
		{"that settings name, of a key in the agent alone", "", func(p *person) string {
			p.holds(map[string]string{"mine": ""})
			p.write(p.signed("mine", "ca", me), "mine.cert")
			p.remove(".ssh", "mine")
			p.remove(".ssh", "mine.pub")
			return "CertificateFile ~/mine.cert\n"
		}},
		{"in the agent, where only the named keys count", "key-not-offered", func(p *person) string {
			p.holds(map[string]string{"mine": p.signed("mine", "ca", me)})
			return "IdentitiesOnly yes\nIdentityFile ~/.ssh/old\n"
		}},
		{"that has ended", "certificate-ended", beside("mine", at(-2*time.Hour, -time.Hour), "ca")},
		{"that is not good yet", "certificate-not-yet", beside("mine", at(time.Hour, 2*time.Hour), "ca")},
		{"for another user", "certificate-other-user", beside("mine", whose("lab", "git"), "ca")},
		{"for no user", "certificate-other-user", beside("mine", whose(), "ca")},
		{"by an authority that the host does not know", "certificate-authority-unknown", beside("mine", me, "old")},
		{"of another key", "key-not-registered", func(p *person) string {
			p.write(p.signed("old", "ca", me), ".ssh", "mine-cert.pub")
			return "IdentityFile ~/.ssh/mine\nIdentitiesOnly yes\n"
		}},
		{"for a host", "key-not-registered",
			beside("mine", ssh.Certificate{CertType: ssh.HostCert, ValidPrincipals: []string{who.Username}}, "ca")},
	} {
		t.Run(row.name, func(t *testing.T) {
			t.Parallel()
			p := newPerson(t)
			for name, kind := range map[string]string{"ca": "ed25519", "mine": "ed25519", "old": "rsa"} {
				p.must("key", "new", name, "--type", kind, "--no-passphrase")
			}
			p.write(p.must("key", "show", "ca", "--line").out, "ca.pub")
			port, line := p.sshd("", "TrustedUserCAKeys "+p.path("ca.pub"))
			p.write(fmt.Sprintf("[127.0.0.1]:%d %s", port, line), ".ssh", "known_hosts")
			settings := strings.ReplaceAll(row.arrange(p), "~", p.home)
			p.write(settings+"UserKnownHostsFile "+p.path(".ssh", "known_hosts")+"\n", ".ssh", "config")
			p.mustGit("init", "--quiet", "--bare", "there")
			p.agrees(tally, fmt.Sprintf("ssh://%s@127.0.0.1:%d%s", who.Username, port, p.path("there")), row.code)
		})
	}
}

// TestKeyListTellsCertificates shows until when a certificate is good, and for whom.
func TestKeyListTellsCertificates(t *testing.T) {
	t.Parallel()
	p := newPerson(t)
	p.must("key", "new", "ca", "--no-passphrase")
	p.must("key", "new", "mine", "--no-passphrase")
	end := time.Date(2031, 5, 6, 7, 8, 9, 0, time.Local)
	p.write(p.signed("mine", "ca", ssh.Certificate{CertType: ssh.UserCert,
		ValidPrincipals: []string{"ines", "git"}, ValidBefore: uint64(end.Unix())}), ".ssh", "mine-cert.pub")
	for _, args := range [][]string{{"key", "list"}, {"key", "show", "mine"}} {
		if r := p.must(args...); !strings.Contains(strings.Join(strings.Fields(r.out), " "),
			"for ines, git, until 2031-05-06 07:08:09") {
			t.Error(r)
		}
	}
	if r := p.must("key", "show", "mine", "--json"); !strings.Contains(r.out,
		`"until": "`+end.UTC().Format(time.RFC3339)+`"`) {
		t.Error(r)
	}
}

// TestHostCertificates names what is wrong with the certificate of a host whose authority ssh trusts.
func TestHostCertificates(t *testing.T) {
	t.Parallel()
	who := loginUser(t)
	hour := uint64(time.Hour / time.Second)
	now := uint64(time.Now().Unix())
	tally := agreement.Of(t, "ssh: certificates of hosts")
	for _, row := range []struct {
		name, code string
		form       ssh.Certificate
	}{
		{"good", "", ssh.Certificate{ValidPrincipals: []string{"127.0.0.1"}}},
		{"for any name", "", ssh.Certificate{}},
		{"ended", "host-certificate-ended", ssh.Certificate{ValidPrincipals: []string{"127.0.0.1"},
			ValidAfter: now - 2*hour, ValidBefore: now - hour}},
		{"not yet good", "host-certificate-not-yet", ssh.Certificate{ValidPrincipals: []string{"127.0.0.1"},
			ValidAfter: now + hour, ValidBefore: now + 2*hour}},
		{"for another name", "host-certificate-other-name",
			ssh.Certificate{ValidPrincipals: []string{"forge.tidewater.example"}}},
	} {
		t.Run(row.name, func(t *testing.T) {
			t.Parallel()
			p := newPerson(t)
			for _, name := range []string{"ca", "mine"} {
				p.must("key", "new", name, "--no-passphrase")
			}
			p.must("key", "new", "other_host", "--type", "rsa", "--no-passphrase")
			row.form.CertType = ssh.HostCert
			p.write(p.signed("other_host", "ca", row.form), "sshd", "certificate")
			port, _ := p.sshd(p.must("key", "show", "mine", "--line").out, "HostKey "+p.path(".ssh", "other_host"),
				"HostCertificate "+p.path("sshd", "certificate"))
			p.write("@cert-authority * "+p.must("key", "show", "ca", "--line").out, ".ssh", "known_hosts")
			p.write("IdentityFile "+p.path(".ssh", "mine")+"\nUserKnownHostsFile "+p.path(".ssh", "known_hosts")+"\n",
				".ssh", "config")
			p.mustGit("init", "--quiet", "--bare", "there")
			p.agrees(tally, fmt.Sprintf("ssh://%s@127.0.0.1:%d%s", who.Username, port, p.path("there")), row.code)
		})
	}
}

// agrees lets git and check go the same way, which is open for both where code is empty. What git prints says
// nothing of certificates.
func (p *person) agrees(tally *agreement.Tally, url, code string) {
	p.t.Helper()
	real, c := p.git("ls-remote", url), p.check(url)
	agree := (real.exit == 0) == (code == "") && c.Open == (code == "") && (code == "" || c.Crux.Code == code)
	if code != "" {
		p.performed(code, c)
	}
	tally.Case(agree, "%s: git ends with %s, and check finds %+v, want %s", p.t.Name(), real, c.Crux, code)
}
