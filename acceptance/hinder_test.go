package acceptance

import (
	"crypto/rand"
	"crypto/rsa"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"fmt"
	"math/big"
	"net/http"
	"strconv"
	"strings"
	"testing"
	"time"
)

// TestSettingsThatHinder puts one line before the settings for the forge: the real ssh fails, and
// the line is the crux, or what it brings about.
func TestSettingsThatHinder(t *testing.T) {
	t.Parallel()
	for line, code := range map[string]string{
		"Ciphers 3des-cbc":                         "algorithms-differ",
		"KexAlgorithms diffie-hellman-group1-sha1": "algorithms-differ",
		"HostKeyAlgorithms rsa-sha2-512":           "algorithms-differ",
		"PubkeyAcceptedAlgorithms rsa-sha2-512":    "key-not-offered",
		"PreferredAuthentications password":        "ssh-setting-hinders",
		"BindAddress 127.99.0.1.5":                 "ssh-setting-hinders",
		"AddressFamily inet6":                      "ssh-setting-hinders",
		"RekeyLimit 1":                             "ssh-config-broken",
	} {
		t.Run(line, func(t *testing.T) {
			t.Parallel()
			p := settled(t)
			p.write(line+"\n"+p.read(".ssh", "config"), ".ssh", "config")
			p.wants(drift, code)
			p.edit(line, "# "+line, ".ssh", "config")
			p.wants(drift, "")
		})
	}
}

// TestInTheBackground: an ssh that goes into the background once it is signed in serves git all the same.
func TestInTheBackground(t *testing.T) {
	t.Parallel()
	p := settled(t)
	p.write("ForkAfterAuthentication yes\n"+p.read(".ssh", "config"), ".ssh", "config")
	p.mustGit("clone", "--quiet", drift, "copy")
	p.wants(drift, "")
}

// TestWithoutInput has ssh read nothing from git: a list of refs may come through before ssh ends, by chance, and a
// clone never does.
func TestWithoutInput(t *testing.T) {
	t.Parallel()
	p := settled(t)
	p.write("StdinNull yes\n"+p.read(".ssh", "config"), ".ssh", "config")
	if r := p.git("clone", drift, "copy"); r.exit == 0 {
		t.Errorf("git clones: %s", r)
	}
	if r := p.unicrux("check", "--json", drift); r.exit != 1 || !strings.Contains(r.out, `"ssh-setting-hinders"`) {
		t.Errorf("check: %s", r)
	}
}

// TestRealServersThatLetNothingBeRun signs in, and gets no further.
func TestRealServersThatLetNothingBeRun(t *testing.T) {
	t.Parallel()
	who := loginUser(t)
	for option, code := range map[string]string{
		"MaxSessions 0": "host-failing",
		"ForceCommand echo 'This service allows sftp connections only.'":                             "sign-in-other-way",
		"ForceCommand echo \"fatal: detected dubious ownership in repository at 'x'\" >&2; exit 128": "host-failing",
	} {
		t.Run(option, func(t *testing.T) {
			t.Parallel()
			p := newPerson(t)
			p.must("key", "new", "open", "--no-passphrase")
			port, _ := p.sshd(p.must("key", "show", "open", "--line").out, option)
			p.write(fmt.Sprintf("UserKnownHostsFile %s\nIdentityFile %s\n", p.path(".ssh", "known_hosts"),
				p.path(".ssh", "open")), ".ssh", "config")
			p.must("host", "trust", fmt.Sprintf("127.0.0.1:%d", port), "--fingerprint", p.fingerprint("sshd_host"))
			p.wants(fmt.Sprintf("ssh://%s@127.0.0.1:%d/x.git", who.Username, port), code)
		})
	}
}

// webSettings are settings of git's alone that close a way over HTTPS, or the environment's.
var webSettings = []webScene{
	{code: "header-overrides", arrange: func(p *person) {
		p.unicrux("token", "revoke", "forge")
		p.mustGit("config", "--global", "http.extraHeader", "Authorization: Bearer tide")
	}, mend: func(p *person) {
		p.mustGit("config", "--global", "--unset", "http.extraHeader")
		p.ownToken()
	}},
	{code: "git-config-broken",
		arrange: func(p *person) { p.mustGit("config", "--global", "http.lowSpeedLimit", "slow") },
		mend:    func(p *person) { p.mustGit("config", "--global", "--unset", "http.lowSpeedLimit") }},
	{code: "tls-authority-unknown", arrange: func(p *person) {
		p.mustGit("config", "--global", "http.pinnedPubkey", "sha256//"+strings.Repeat("A", 43)+"=")
	}, mend: func(p *person) { p.mustGit("config", "--global", "--unset", "http.pinnedPubkey") }},
	{code: "proxy-unreachable", arrange: func(p *person) {
		p.extra = append(p.extra, fmt.Sprintf("https_proxy=http://127.0.0.1:%d", freePort(p.t)))
	}, mend: func(p *person) { p.extra = append(p.extra, "no_proxy=forge.tidewater.example") }},
	{code: "tls-version", url: func(p *person) string {
		p.extra = append(p.extra, "GIT_SSL_VERSION=tlsv1.3")
		return p.server(-3600e9, 3600e9, "forge.tidewater.example",
			func(s *http.Server) { s.TLSConfig.MaxVersion = 0x0303 })
	}},
}

// TestWebSettings plays them, as TestWebScenes does.
func TestWebSettings(t *testing.T) {
	t.Parallel()
	for i, s := range webSettings {
		t.Run(fmt.Sprint(i, " ", s.code), func(t *testing.T) {
			t.Parallel()
			p := at(t, "forge").withChest()
			p.ownToken()
			s.play(p)
		})
	}
}

// TestAnswerByAnswer has a host that ends the connection behind each answer, as it may.
func TestAnswerByAnswer(t *testing.T) {
	t.Parallel()
	p := at(t, "forge").withChest()
	p.ownToken()
	asked := 0
	url := p.serverThat(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Connection", "close")
		if _, _, told := r.BasicAuth(); !told {
			asked++
			w.Header().Set("WWW-Authenticate", `Basic realm="tides"`)
			http.Error(w, "Who are you?", http.StatusUnauthorized)
			return
		}
		http.Error(w, "no such repository", http.StatusNotFound)
	})
	host, _, _ := strings.Cut(strings.TrimPrefix(url, "https://"), "/")
	p.plainToken("ines.marlow", "tide")
	p.write("https://ines.marlow:tide@"+host+"\n", ".git-credentials")
	if c := p.check(url); c.Open || c.Crux.Code != "repository-missing" || asked == 0 {
		t.Errorf("the crux is %+v", c.Crux)
	}
}

// TestOnlyThePushIsRefused has a host that answers the question for a push, and refuses the push.
func TestOnlyThePushIsRefused(t *testing.T) {
	t.Parallel()
	p := at(t, "forge").withChest()
	url := p.serverThat(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodPost && strings.HasSuffix(r.URL.Path, "git-receive-pack") {
			http.Error(w, "Pushing is for keepers.", http.StatusForbidden)
			return
		}
		service := r.URL.Query().Get("service")
		w.Header().Set("Content-Type", "application/x-"+service+"-advertisement")
		text := "# service=" + service + "\n"
		_, _ = fmt.Fprintf(w, "%04x%s0000003c%s refs/heads/main0000", len(text)+4, text, strings.Repeat("1", 40))
	})
	p.mustGit("init", "--quiet", "work")
	p.mustGit("-C", "work", "commit", "--quiet", "--allow-empty", "--message", "x")
	failed := p.git("-C", "work", "push", url, "HEAD:refs/heads/trial")
	if failed.exit == 0 {
		t.Fatalf("the real client does not fail: %s", failed)
	}
	p.explains(failed, "read-only-account")
	if c := p.check("--for", "push", url); c.Open || c.Crux.Code != "read-only-account" {
		t.Errorf("the crux is %+v: %s", c.Crux, failed)
	}
	if c := p.check(url); !c.Open {
		t.Errorf("for a clone the crux is %+v", c.Crux)
	}
}

// TestWeakCertificate meets a certificate that its authority signed by an algorithm which clients accept no longer.
func TestWeakCertificate(t *testing.T) {
	t.Parallel()
	p := newPerson(t)
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		t.Fatal(err)
	}
	make := func(name string, by *x509.Certificate, algorithm x509.SignatureAlgorithm) *x509.Certificate {
		form := &x509.Certificate{SerialNumber: big.NewInt(time.Now().UnixNano()), Subject: pkix.Name{CommonName: name},
			DNSNames: []string{name}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour),
			IsCA: by == nil, BasicConstraintsValid: true, SignatureAlgorithm: algorithm,
			KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign}
		if by == nil {
			by = form
		}
		der, err := x509.CreateCertificate(rand.Reader, form, by, key.Public(), key)
		if err != nil {
			t.Fatal(err)
		}
		made, err := x509.ParseCertificate(der)
		if err != nil {
			t.Fatal(err)
		}
		return made
	}
	authority := make("Tidewater's authority", nil, x509.SHA256WithRSA)
	weak := make("forge.tidewater.example", authority, x509.SHA1WithRSA)
	url := p.server(-time.Hour, time.Hour, "forge.tidewater.example", func(s *http.Server) {
		s.TLSConfig.Certificates = []tls.Certificate{{Certificate: [][]byte{weak.Raw}, PrivateKey: key}}
		s.Handler = http.HandlerFunc(serveTide)
	})
	host, _, _ := strings.Cut(strings.TrimPrefix(url, "https://"), "/")
	_, port, _ := strings.Cut(host, ":")
	number, err := strconv.Atoi(port)
	if err != nil {
		t.Fatal(err)
	}
	p.trusts(number, authority.Raw)
	failed, c := p.git("ls-remote", url), p.check(url)
	if failed.exit == 0 || c.Open || c.Crux.Code != "tls-weak" {
		t.Errorf("the crux is %+v: %s", c.Crux, failed)
	}
	p.performed("tls-weak", c).mended = others
}
