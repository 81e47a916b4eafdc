package acceptance

import (
	"bytes"
	"fmt"
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"os/exec"
	"strconv"
	"strings"
	"testing"
	"time"
)

// hg runs the real client as the person.
func (p *person) hg(args ...string) result {
	p.t.Helper()
	return p.run("", "hg", append([]string{"--noninteractive"}, args...)...)
}

func (p *person) mustHg(args ...string) {
	p.t.Helper()
	if r := p.hg(args...); r.exit != 0 {
		p.t.Fatalf("hg %v: %s", args, r)
	}
}

// withHg is a person with Mercurial, a repository at "there" and an empty one of their own at "here".
func withHg(t *testing.T) *person {
	t.Helper()
	need(t, "hg")
	p := newPerson(t)
	p.write("[ui]\nusername = Ines Marlow <ines.marlow@tidewater.example>\n", ".hgrc")
	p.mustHg("init", p.path("there", "drift"))
	p.write("1\n", "there", "drift", "tides")
	p.mustHg("--cwd", p.path("there", "drift"), "commit", "--addremove", "--message", "tides")
	p.write("nothing\n", "there", "plain", "file")
	p.mustGit("init", "--quiet", "--bare", p.path("there", "git"))
	p.mustHg("init", p.path("here"))
	return p
}

// goesTo makes the URL the default path of the repository here.
func (p *person) goesTo(url string, more string) {
	p.write("[paths]\ndefault = "+url+"\n"+more, "here", ".hg", "hgrc")
}

// A hgScene is a way over which hg fails.
type hgScene struct {
	name, code string
	arrange    func(p *person, url string) string // the URL that is used then
	mend       func(p *person, url string)
}

// play lets the real hg fail first, then check, then what the mend says, then hg again.
func (s hgScene) play(p *person, url string) {
	t := p.t
	given := s.arrange(p, url)
	p.goesTo(given, "")
	p.folder = p.path("here")
	failed := p.hg("incoming", "--bundle", "x.hg")
	if failed.exit != 255 && failed.exit != 50 && failed.exit != 100 {
		t.Fatalf("the real client does not fail: %s", failed)
	}
	p.explains(failed, s.code)
	before := p.everything()
	c := p.check()
	done := p.performed(s.code, c)
	if p.everything() != before {
		t.Error("check changed something")
	}
	if c.Open || c.Crux.Code != s.code {
		t.Fatalf("the crux is %+v, want %s: %s", c.Crux, s.code, failed)
	}
	if len(c.Mends) == 0 || len(c.Crux.Evidence) == 0 {
		t.Errorf("%+v", c)
	}
	if done.mended = others; s.mend == nil {
		return
	}
	done.mended = noSceneYet
	s.mend(p, url)
	if r := p.hg("incoming"); r.exit != 0 {
		t.Fatalf("after the mend the real client still fails: %s", r)
	}
	if c := p.check("--for", "clone"); !c.Open {
		t.Fatalf("after the mend the crux is %+v", c.Crux)
	}
	done.mended = mended
}

func other(last string) func(*person, string) string {
	return func(p *person, url string) string { return url[:len(url)-len("drift")] + last }
}

var hgOverSSH = []hgScene{
	{"missing", "repository-missing", other("nowhere"), func(p *person, url string) { p.goesTo(url, "") }},
	{"no repository", "repository-not-git", other("plain"), func(p *person, url string) { p.goesTo(url, "") }},
	{"first contact", "host-key-unknown", func(p *person, url string) string {
		p.rename("known_hosts", "kept")
		return url
	}, func(p *person, _ string) { p.rename("kept", "known_hosts") }},
	{"other key", "key-not-registered", func(p *person, url string) string {
		p.write("", "sshd", "authorized")
		return url
	}, func(p *person, _ string) { p.write(p.read(".ssh", "open.pub"), "sshd", "authorized") }},
	{"nobody listens", "port-refused", func(p *person, address string) string {
		at, _ := url.Parse(address)
		at.Host = net.JoinHostPort(at.Hostname(), strconv.Itoa(freePort(p.t)))
		return at.String()
	}, func(p *person, url string) { p.goesTo(url, "") }},
	{"short form", "url-malformed",
		func(_ *person, _ string) string { return "hg@forge.tidewater.example:buoys/drift" },
		func(p *person, url string) { p.goesTo(url, "") }},
	{"broken settings", "git-config-broken", func(p *person, url string) string {
		p.edit("[ui]", "[ui\nx", ".hgrc")
		return url
	}, func(p *person, _ string) { p.edit("[ui\nx", "[ui]", ".hgrc") }},
	{"own ssh", "ssh-command-broken", func(p *person, url string) string {
		p.edit("ssh = ssh", "ssh = /nowhere/ssh", ".hgrc")
		return url
	}, func(p *person, _ string) { p.edit("/nowhere/ssh", "ssh", ".hgrc") }},
}

// sshRepository is where a real sshd gives the repository out.
func (p *person) sshRepository(options ...string) string {
	who := loginUser(p.t)
	p.must("key", "new", "open", "--no-passphrase")
	port, _ := p.sshd(p.must("key", "show", "open", "--line").out, options...)
	p.write(fmt.Sprintf("UserKnownHostsFile %s\nIdentitiesOnly yes\nIdentityFile %s\n", p.path(".ssh", "known_hosts"),
		p.path(".ssh", "open")), ".ssh", "config")
	p.must("host", "trust", fmt.Sprintf("127.0.0.1:%d", port), "--fingerprint", p.fingerprint("sshd_host"))
	p.write(p.read(".hgrc")+"ssh = ssh -F "+p.path(".ssh", "config")+" -o BatchMode=yes\n", ".hgrc")
	return fmt.Sprintf("ssh://%s@127.0.0.1:%d/%s", who.Username, port, p.path("there", "drift"))
}

func TestMercurialOverSSH(t *testing.T) {
	t.Parallel()
	for _, s := range hgOverSSH {
		t.Run(s.name, func(t *testing.T) {
			t.Parallel()
			p := withHg(t)
			s.play(p, p.sshRepository())
		})
	}
}

// TestMercurialWriting asks a shell at the host whether a push would be allowed, and says so where
// none tells.
func TestMercurialWriting(t *testing.T) {
	t.Parallel()
	for _, test := range []struct{ name, forced, code, note string }{
		{"allowed", "", "", ""},
		{"not allowed",
			`ForceCommand case "$SSH_ORIGINAL_COMMAND" in "test -w"*) exit 1;; esac; sh -c "$SSH_ORIGINAL_COMMAND"`,
			"read-only-account", ""},
		{"no shell",
			`ForceCommand case "$SSH_ORIGINAL_COMMAND" in hg*) sh -c "$SSH_ORIGINAL_COMMAND";; *) echo refused >&2; exit 255;; esac`, "", "writing-untried"},
	} {
		t.Run(test.name, func(t *testing.T) {
			t.Parallel()
			p := withHg(t)
			p.goesTo(p.sshRepository(test.forced), "")
			p.folder = p.path("here")
			c := p.check()
			code, note := "", ""
			if c.Crux != nil {
				code = c.Crux.Code
			}
			if len(c.Notes) > 0 && c.Notes[0].Code != "key-no-passphrase" {
				note = c.Notes[0].Code
			}
			if code != test.code || note != test.note || c.Question.Purpose != "push" ||
				*c.Question.Remote != "default" {
				t.Errorf("the crux is %+v, notes %+v, question %+v", c.Crux, c.Notes, c.Question)
			}
		})
	}
}

var hgOverHTTPS = []hgScene{
	{"no group", "secret-missing", func(p *person, url string) string {
		p.edit("tides.prefix = *", "tides.prefix = elsewhere.example", ".hgrc")
		return url
	}, func(p *person, _ string) { p.edit("elsewhere.example", "*", ".hgrc") }},
	{"other password", "token-unknown", func(p *person, url string) string {
		p.edit("ebb-and-flow", "flood", ".hgrc")
		return url
	}, func(p *person, _ string) { p.edit("flood", "ebb-and-flow", ".hgrc") }},
	{"missing", "repository-missing", other("nowhere"), func(p *person, url string) { p.goesTo(url, "") }},
	{"authority", "tls-authority-unknown", func(p *person, url string) string {
		p.edit("cacerts", "other", ".hgrc")
		return url
	}, func(p *person, _ string) { p.edit("other", "cacerts", ".hgrc") }},
	{"fingerprint", "tls-authority-unknown", func(p *person, url string) string {
		p.write(p.read(".hgrc")+"[hostsecurity]\nlocalhost:fingerprints = sha256:00:11\n", ".hgrc")
		return url
	}, func(p *person, _ string) { p.edit("localhost:fingerprints", "other:fingerprints", ".hgrc") }},
	{"proxy", "proxy-unreachable", func(p *person, url string) string {
		p.write(p.read(".hgrc")+fmt.Sprintf("[http_proxy]\nhost = 127.0.0.1:%d\nalways = True\n",
			freePort(p.t)), ".hgrc")
		return url
	}, func(p *person, _ string) { p.edit("always = True", "always = False", ".hgrc") }},
}

// httpsRepository gives the repository out by the real "hg serve", behind TLS and a password.
func (p *person) httpsRepository() string {
	p.write("[paths]\n/ = "+p.path("there")+"/*\n", "hgweb.conf")
	port := freePort(p.t)
	cmd := exec.Command("hg", "serve", "--webdir-conf", p.path("hgweb.conf"), "--address", "127.0.0.1", "--port",
		strconv.Itoa(port))
	cmd.Env, cmd.Dir = p.environ(), p.path("there")
	var said bytes.Buffer
	cmd.Stderr = &said
	if err := cmd.Start(); err != nil {
		p.t.Fatal(err)
	}
	p.t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	behind := &url.URL{Scheme: "http", Host: fmt.Sprintf("127.0.0.1:%d", port)}
	eventually(p.t, "hg serve", func() bool {
		conn, err := net.Dial("tcp", behind.Host)
		if err == nil {
			_ = conn.Close()
		}
		return err == nil
	})
	proxy := httputil.NewSingleHostReverseProxy(behind)
	front := p.server(-time.Hour, time.Hour, "localhost", func(s *http.Server) {
		s.Handler = http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if user, word, _ := r.BasicAuth(); user != "ines" || word != "ebb-and-flow" {
				w.Header().Set("WWW-Authenticate", `Basic realm="tides"`)
				http.Error(w, "Who are you?", http.StatusUnauthorized)
				return
			}
			proxy.ServeHTTP(w, r)
		})
	})
	at, err := url.Parse(front)
	if err != nil {
		p.t.Fatal(err)
	}
	p.write(p.read(".hgrc")+
		"[auth]\ntides.prefix = *\ntides.username = ines\ntides.password = ebb-and-flow\n[web]\ncacerts = "+
		p.path("server-"+at.Port()+".pem")+"\n", ".hgrc")
	return "https://localhost:" + at.Port() + "/drift"
}

func TestMercurialOverHTTPS(t *testing.T) {
	t.Parallel()
	for _, s := range hgOverHTTPS {
		t.Run(s.name, func(t *testing.T) {
			t.Parallel()
			p := withHg(t)
			s.play(p, p.httpsRepository())
		})
	}
}

// TestOtherProgram takes git for Mercurial and the other way round.
func TestOtherProgram(t *testing.T) {
	t.Parallel()
	p := withHg(t)
	url := p.httpsRepository()
	p.folder = p.path("here")
	if c := p.check(url); !c.Open {
		t.Errorf("the crux is %+v", c.Crux)
	}
	host, _, _ := strings.Cut(strings.TrimPrefix(url, "https://"), "/")
	_, port, _ := net.SplitHostPort(host)
	p.write("https://ines:ebb-and-flow@"+host+"\n", ".git-credentials")
	p.mustGit("config", "--global", "credential.helper", "store")
	p.mustGit("config", "--global", "http.sslCAInfo", p.path("server-"+port+".pem"))
	if c := p.check("--program", "git", url); c.Open || c.Crux.Code != "repository-not-git" ||
		!strings.Contains(strings.Join(c.Crux.Evidence, " "), "hg clone") || len(c.Mends[0].Command) != 3 {
		t.Errorf("git asks for a repository of Mercurial's: %+v", c.Crux)
	}
	if r := p.unicrux("check", "--program", "svn", url); r.exit != 2 {
		t.Errorf("an unknown program: %s", r)
	}
	p.goesTo(url, "")
	if c := p.check("nope"); c.Open || c.Crux.Code != "remote-missing" {
		t.Errorf("no such path: %+v", c.Crux)
	}
}
