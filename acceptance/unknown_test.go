package acceptance

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/pem"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"testing"

	"anchorage.example/unicrux/demo"
	"anchorage.example/unicrux/standin"
)

// These are journeys to hosts that nobody has described, by real servers: from an empty home to a pushed commit.

// unknownSSH starts a real sshd that accepts nobody's key yet, and returns the clone URL of a repository with a commit.
func (p *person) unknownSSH(options ...string) (url string) {
	p.t.Helper()
	who := loginUser(p.t)
	p.write("UserKnownHostsFile "+p.path(".ssh", "known_hosts")+"\n", ".ssh", "config") // not that of who runs the test
	// the host has a home of its own
	server := newPerson(p.t)
	port, _ := server.sshd("", options...)
	p.host127 = server
	server.mustGit("init", "--quiet", "--bare", "--initial-branch", "main", server.path("tide-tables.git"))
	server.mustGit("init", "--quiet", "--initial-branch", "main", server.path("first"))
	server.commitIn("first", "first")
	server.mustGit("-C", server.path("first"), "push", "--quiet", server.path("tide-tables.git"), "main")
	return fmt.Sprintf("ssh://%s@127.0.0.1:%d%s", who.Username, port, server.path("tide-tables.git"))
}

// accepts is what somebody does on the host's web page: the host accepts the line that was shown.
func (p *person) accepts(shown string) {
	p.t.Helper()
	for line := range strings.Lines(shown) {
		if strings.HasPrefix(line, "ssh-") {
			p.host127.write(strings.ReplaceAll(line, "\r", ""), "sshd", "authorized")
			return
		}
	}
	p.t.Errorf("no line of a key was shown:\n%s", shown)
}

// pushes commits in a clone and pushes with the real git, then asks for the same clone again.
func (p *person) pushes(url, folder string) {
	p.t.Helper()
	p.commitIn(folder, "second")
	if r := p.git("-C", p.path(folder), "push"); r.exit != 0 {
		p.t.Errorf("push: %s", r)
	}
	if r := p.unicrux("ready", url, "--no-input"); r.exit != 0 || !strings.Contains(r.out, "Open") {
		p.t.Errorf("the same again: %s", r)
	}
}

// TestUnknownHost: from an empty home to a pushed commit in one command, with what a script says.
func TestUnknownHost(t *testing.T) {
	t.Parallel()
	p := newPerson(t)
	url := p.unknownSSH()
	fingerprint := p.host127.fingerprint("sshd_host")

	plan := p.must("ready", url, "--dry-run", "--no-passphrase", "--json")
	if !strings.Contains(plan.out, "host-127-0-0-1") || p.exists(".ssh", "host-127-0-0-1_ed25519") ||
		p.exists(".config") {
		t.Errorf("a dry run: %s", plan)
	}
	if r := p.unicrux("ready", url, "--no-passphrase"); r.exit != 1 ||
		!strings.Contains(r.out, "host trust host-127-0-0-1 --fingerprint") {
		t.Errorf("nobody vouches for the host: %s", r)
	}
	if r := p.unicrux("ready", url, "--fingerprint", "SHA256:"+strings.Repeat("A", 43)); r.exit != 1 ||
		p.exists(".ssh", "known_hosts") {
		t.Errorf("a wrong fingerprint: %s", r)
	}
	r := p.unicrux("ready", url, "--fingerprint", fingerprint, "--no-passphrase")
	if r.exit != 1 || !strings.Contains(r.out, "key register") || !p.exists(".ssh", "known_hosts") {
		t.Errorf("nobody waits: %s", r)
	}
	p.accepts(p.must("key", "show", "host-127-0-0-1_ed25519", "--line").out)
	if r := p.must("ready", url); !strings.Contains(r.out, "Cloned into") || !p.exists("tide-tables", ".git") {
		t.Errorf("the same again: %s", r)
	}
	p.pushes(url, "tide-tables")
	if config := p.readIfThere(".ssh", "unicrux.conf"); strings.Contains(config, "Port") {
		t.Errorf("the person's own ssh to that host would go elsewhere: %s", config)
	}
	if r := p.must("host", "list"); !strings.Contains(r.out, "host-127-0-0-1") {
		t.Errorf("host list: %s", r)
	}
}

// TestUnknownHostOnTheTerminal: the fingerprint is pasted and not looked at, and the key accepted while the command
// waits.
func TestUnknownHostOnTheTerminal(t *testing.T) {
	t.Parallel()
	p := newPerson(t)
	url := p.unknownSSH()
	fingerprint := p.host127.fingerprint("sshd_host")
	if r := p.onTerminal([]string{"yes\n", "\n"}, "ready", url, "--no-passphrase"); r.exit != 5 ||
		p.exists(".ssh", "known_hosts") || strings.Count(r.out, "(--fingerprint): ") != 2 {
		t.Errorf("yes, and nothing: %s", r)
	}
	talk := p.talk("ready", url, "--no-passphrase")
	talk.answer("(--fingerprint): ", "SHA256:"+strings.Repeat("A", 43)+"\n")
	talk.answer("do not connect", "")
	talk.answer("(--fingerprint): ", strings.TrimPrefix(fingerprint, "SHA256:")+"\n")
	talk.answer("Ctrl-C ends the waiting", "")
	p.accepts(talk.seen())
	if r := talk.end(); r.exit != 0 || !strings.Contains(r.out, "Cloned into") {
		t.Fatalf("on the terminal: %s", r)
	}
	p.pushes(url, "tide-tables")
	if r := p.must("undo", "--dry-run"); !strings.Contains(r.out, "host-127-0-0-1") && r.exit != 0 {
		t.Errorf("undo: %s", r)
	}
}

// TestTrustedElsewhere: a host that is trusted under another name is recognised by its key, and the person says whether
// it is the same.
func TestTrustedElsewhere(t *testing.T) {
	t.Parallel()
	p := newPerson(t)
	url := p.unknownSSH()
	p.write("code.lanternfish.example "+p.host127.must("key", "show", "sshd_host", "--line").out, ".ssh", "known_hosts")
	at, _, _ := strings.Cut(strings.SplitAfterN(url, "@", 2)[1], "/")
	if r := p.unicrux("host", "trust", at); r.exit != 1 || !strings.Contains(r.err, "known_hosts:1") {
		t.Errorf("nobody can be asked: %s", r)
	}
	talk := p.talk("host", "trust", at)
	talk.answer("yes or [no]:", "no\n")
	talk.answer("(--fingerprint): ", "\n")
	if r := talk.end(); r.exit != 5 || strings.Contains(p.read(".ssh", "known_hosts"), "127.0.0.1") {
		t.Errorf("no: %s", r)
	}
	talk = p.talk("host", "trust", at)
	talk.answer("code.lanternfish.example", "")
	talk.answer("yes or [no]:", "yes\n")
	if r := talk.end(); r.exit != 0 || !strings.Contains(p.read(".ssh", "known_hosts"), "[127.0.0.1]:") {
		t.Errorf("yes: %s", r)
	}
}

// TestTrustFromAPage finds the host's fingerprint on a web page that the person names.
func TestTrustFromAPage(t *testing.T) {
	t.Parallel()
	p := newPerson(t)
	url := p.unknownSSH()
	at, _, _ := strings.Cut(strings.SplitAfterN(url, "@", 2)[1], "/")
	good := p.page("<html><h1>Welcome</h1><p>Our host key is <code>" + p.host127.fingerprint("sshd_host") + "</code>.")
	other := p.page("<html>SHA256:" + strings.Repeat("B", 43))
	none := p.page("<html>Nothing here")
	for page, words := range map[string]string{other: "SHA256:BBB", none: "no fingerprint",
		"http://127.0.0.1/": "https"} {
		if r := p.unicrux("host", "trust", at, "--from", page); r.exit == 0 || !strings.Contains(r.err, words) ||
			p.exists(".ssh", "known_hosts") {
			t.Errorf("%s: %s", page, r)
		}
	}
	if r := p.must("host", "trust", at, "--from", good); !strings.Contains(r.out, "Our host key is") {
		t.Errorf("the place is not quoted: %s", r)
	}
}

// TestUnknownHostOverHTTPS: a certificate authority of its own, a user name and a password, proved by git's own
// request.
func TestUnknownHostOverHTTPS(t *testing.T) {
	t.Parallel()
	p := newPerson(t).withChest()
	url := p.nginx("")
	p.mustGit("config", "--global", "--unset-all",
		"http."+strings.TrimSuffix(url, "buoys/drift-model.git")+".sslCAInfo")
	block, _ := pem.Decode([]byte(p.read("nginx", "cert.pem")))
	sum := sha256.Sum256(block.Bytes)
	talk := p.talk("ready", url, "--for", "push", "--chest-passphrase-from", p.path("chest-words"))
	talk.answer("should have:", "00:11\n")
	talk.answer("should have:", strings.ToUpper(hex.EncodeToString(sum[:]))+"\n")
	talk.answer("(--as):", "ines\n")
	talk.answer("(--token-from):", "flood\n")
	talk.answer("(--as):", "ines\n")
	talk.answer("(--token-from):", "ebb-and-flow\n")
	if r := talk.end(); r.exit != 0 || strings.Contains(r.out, "ebb-and-flow") ||
		!strings.Contains(r.out, "Cloned into") {
		t.Fatalf("over HTTPS: %s", r)
	}
	p.pushes(url, "drift-model")
	if out, _ := exec.Command("grep", "-rl", "ebb-and-flow", p.path(".config"), p.path(".local"),
		p.path("drift-model")).Output(); len(out) > 0 {
		t.Errorf("the password is in plain text in %s", out)
	}
	if os.Getenv("CI") == "" {
		t.Log(p.must("token", "list").out)
	}
}

// gatekeeper starts a real gatekeeper of git repositories behind a real sshd (gitolite): every key is somebody's, and
// all go through one login. accept makes the key of a line that was shown ines's.
func (p *person) gatekeeper() (url string, accept func(shown string)) {
	p.t.Helper()
	need(p.t, "gitolite")
	who := loginUser(p.t)
	server := newPerson(p.t)
	p.host127 = server
	port, _ := server.sshd("", "SetEnv HOME="+server.home)
	server.must("key", "new", "admin", "--no-passphrase")
	gitolite := func(args ...string) {
		p.t.Helper()
		if r := server.run("", "gitolite", args...); r.exit != 0 {
			p.t.Fatalf("gitolite %s: %s", args, r)
		}
	}
	gitolite("setup", "-pk", server.path(".ssh", "admin.pub"))
	server.remove("sshd", "authorized")
	if err := os.Symlink(server.path(".ssh", "authorized_keys"), server.path("sshd", "authorized")); err != nil {
		p.t.Fatal(err)
	}
	p.write("UserKnownHostsFile "+p.path(".ssh", "known_hosts")+"\n", ".ssh", "config")
	return fmt.Sprintf("ssh://%s@127.0.0.1:%d/testing", who.Username, port), func(shown string) {
		for line := range strings.Lines(shown) {
			if strings.HasPrefix(line, "ssh-") {
				server.write(strings.ReplaceAll(line, "\r", ""), ".gitolite", "keydir", "ines.pub")
			}
		}
		gitolite("trigger", "POST_COMPILE")
	}
}

// TestUnknownGatekeeper: the same journey at a real gatekeeper, which greets a key by its owner and refuses without a
// shell.
func TestUnknownGatekeeper(t *testing.T) {
	t.Parallel()
	p := newPerson(t)
	url, accept := p.gatekeeper()
	talk := p.talk("ready", url, "--no-passphrase", "--for", "push")
	talk.answer("(--fingerprint): ", p.host127.fingerprint("sshd_host")+"\n")
	talk.answer("Ctrl-C ends the waiting", "")
	accept(talk.seen())
	if r := talk.end(); r.exit != 0 || !strings.Contains(r.out, "Cloned into") {
		t.Fatalf("at the gatekeeper: %s", r)
	}
	p.pushes(url, "testing")
	if c := p.check("--for", "push", url); !c.Open {
		t.Errorf("push: %+v", c.Crux)
	}
	if c := p.check("--for", "push", strings.Replace(url, "/testing", "/gitolite-admin", 1)); c.Open ||
		c.Crux.Code != "repository-missing" && c.Crux.Code != "read-only-account" {
		t.Errorf("somebody else's repository: %+v", c.Crux)
	}
}

// TestUnknownMercurial: the same journey with hg over SSH; over HTTPS, where hg keeps secrets in its own settings
// alone, the clone is hg's though nobody said so.
func TestUnknownMercurial(t *testing.T) {
	t.Parallel()
	p := withHg(t)
	url := p.unknownSSH()
	at, _, _ := strings.Cut(strings.TrimPrefix(url, "ssh://"), "/")
	url = "ssh://" + at + "/" + p.path("there", "drift")
	p.write(p.read(".hgrc")+"ssh = ssh -F "+p.path(".ssh", "config")+" -o BatchMode=yes\n", ".hgrc")
	talk := p.talk("ready", url, "--no-passphrase", "--program", "hg")
	talk.answer("(--fingerprint): ", p.host127.fingerprint("sshd_host")+"\n")
	talk.answer("Ctrl-C ends the waiting", "")
	p.accepts(talk.seen())
	if r := talk.end(); r.exit != 0 || !strings.Contains(r.out, "Cloned into") || !p.exists("drift", ".hg") {
		t.Fatalf("with hg: %s", r)
	}
	p.write("2\n", "drift", "tides")
	p.mustHg("--cwd", p.path("drift"), "commit", "--message", "more")
	p.mustHg("--cwd", p.path("drift"), "push", "--quiet")
	if r := p.must("ready", url, "--program", "hg"); !strings.Contains(r.out, "there already") {
		t.Errorf("the same again: %s", r)
	}
	web := p.httpsRepository()
	host, _, _ := strings.Cut(strings.TrimPrefix(web, "https://"), "/")
	p.write("https://ines:ebb-and-flow@"+host+"\n", ".git-credentials")
	p.mustGit("config", "--global", "credential.helper", "store")
	p.mustGit("config", "--global", "http.sslCAInfo", p.path("server-"+host[len("localhost:"):]+".pem"))
	if r := p.must("ready", web, "--into", p.path("web")); !p.exists("web", ".hg") ||
		!strings.Contains(r.out, "It is a repository of hg") {
		t.Errorf("nobody said that it is Mercurial's: %s", r)
	}
}

// TestHostDescribesItself: a host hands out its own description; it is shown, asked about, and kept for that very host.
func TestHostDescribesItself(t *testing.T) {
	t.Parallel()
	p := newPerson(t)
	host, err := demo.Serve("forge", standin.Options{Folder: t.TempDir()})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = host.Close() })
	at := fmt.Sprintf("%s:%d", host.Hostname(), host.WebPort())
	if r := p.unicrux("host", "add", at, "--yes"); r.exit != 1 || !strings.Contains(r.err, "hands out no description") {
		t.Errorf("nobody there: %s", r)
	}
	p.write(string(host.Authority()), "ca.pem")
	p.mustGit("config", "--global", "http.https://"+at+"/.curloptResolve", at+":127.0.0.1")
	if r := p.unicrux("host", "add", at, "--yes"); r.exit != 1 || p.exists(".config", "unicrux", "hosts") {
		t.Errorf("its certificate is not trusted: %s", r)
	}
	p.mustGit("config", "--global", "http.https://"+at+"/.sslVerify", "false")
	if r := p.unicrux("host", "add", at, "--yes"); r.exit != 1 {
		t.Errorf("its certificate is not looked at by git: %s", r)
	}
	p.mustGit("config", "--global", "http.https://"+at+"/.sslCAInfo", p.path("ca.pem"))
	if r := p.unicrux("host", "add", at); r.exit != 4 || !strings.Contains(r.err, "secrets to") {
		t.Errorf("nobody can be asked: %s", r)
	}
	p.must("host", "add", at, "--yes")
	if r := p.must("host", "refresh", "forge"); !strings.Contains(r.out, "Described") {
		t.Errorf("the same again: %s", r)
	}
	text, err := os.ReadFile(host.DescriptionFile())
	if err != nil {
		t.Fatal(err)
	}
	offer := func(text string) {
		if err := os.WriteFile(host.DescriptionFile(), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	offer(strings.Replace(string(text), "title = ", "title = \"Renewed\" # ", 1))
	if r := p.unicrux("host", "refresh", "forge"); r.exit != 4 || !strings.Contains(r.err, "Renewed") {
		t.Errorf("the difference: %s", r)
	}
	offer(strings.ReplaceAll(string(text), host.Hostname(), "code.lanternfish.example"))
	if r := p.unicrux("host", "refresh", "forge", "--yes"); r.exit != 1 ||
		!strings.Contains(r.err, "the description of another host") {
		t.Errorf("another host: %s", r)
	}
	if r := p.must("host", "show", "forge"); strings.Contains(r.out, "lanternfish") {
		t.Errorf("kept: %s", r)
	}
	p.must("host", "drop", "forge")
	if r := p.unicrux("host", "refresh", "forge"); r.exit == 0 {
		t.Errorf("after it was dropped: %s", r)
	}
}

// TestAsksAgain: a wrong token is asked for once more, and where git does not know who commits are by, that is asked
// for and holds in every repository.
func TestAsksAgain(t *testing.T) {
	t.Parallel()
	p := withHost(t)
	p.without = []string{"GIT_AUTHOR_NAME", "GIT_AUTHOR_EMAIL", "GIT_COMMITTER_NAME", "GIT_COMMITTER_EMAIL"}
	p.extra = append(p.extra, "EMAIL=")
	p.mustGit("config", "--global", "user.useConfigOnly", "true")
	token := p.read2(p.host.TokenFile())
	talk := p.talk("ready", drift, "--no-passphrase")
	talk.answer("(--token-from):", "nonsense\n")
	talk.answer("Once more", "")
	talk.answer("(--token-from):", token)
	talk.answer("does not know who your commits are by", "")
	talk.answer("it is):", "Ines Marlow\n")
	talk.answer("in commits:", "ines.marlow@tidewater.example\n")
	if r := talk.end(); r.exit != 0 || !strings.Contains(r.out, "Commits are by Ines Marlow") ||
		strings.Contains(r.out, strings.TrimSpace(token)) {
		t.Fatalf("ready: %s", r)
	}
	p.mustGit("init", "--quiet", "other")
	if got := p.mustGit("-C", "other", "var", "GIT_AUTHOR_IDENT").out; !strings.HasPrefix(got,
		"Ines Marlow <ines.marlow@tidewater.example>") {
		t.Errorf("before there is a remote: %s", got)
	}
	p.must("undo")
	if r := p.git("-C", "other", "var", "GIT_AUTHOR_IDENT"); r.exit == 0 {
		t.Errorf("after undo: %s", r)
	}
	talk = p.talk("ready", drift, "--into", p.path("left"))
	talk.answer("it is):", "\n")
	if r := talk.end(); r.exit != 0 || !p.exists("left", ".git") {
		t.Errorf("left as it is: %s", r)
	}
}

// TestReadySignsInByABrowser: where a host issues tokens to whoever signs in in a browser alone, ready does that.
func TestReadySignsInByABrowser(t *testing.T) {
	t.Parallel()
	p := withHost(t).withChest()
	text, err := os.ReadFile(p.host.DescriptionFile())
	if err != nil {
		t.Fatal(err)
	}
	before, rest, _ := strings.Cut(string(text), "[operations.issue-token]")
	_, after, _ := strings.Cut(rest, "\n[")
	p.write(before+"["+after, "forge.toml")
	p.must("host", "add", p.path("forge.toml"), "--yes")
	talk := p.talk("ready", p.cloneHTTPS("buoys/drift-model"), "--chest-passphrase-from", p.path("chest-words"))
	talk.answer("/device", "") // the page is shown
	for _, code := range p.host.Waiting() {
		p.host.Decide(code, "ines.marlow", true)
	}
	if r := talk.end(); r.exit != 0 || !strings.Contains(r.out, "Signed in to forge") ||
		!strings.Contains(r.out, "Cloned into") {
		t.Errorf("in a browser: %s", r)
	}
}

// TestOpensThePage: with --open the page that the description names is opened, and no other.
func TestOpensThePage(t *testing.T) {
	t.Parallel()
	p := at(t, "lantern")
	p.must("key", "new", "--host", "lantern", "--no-passphrase")
	p.must("host", "trust", "lantern")
	p.write("#!/bin/sh\necho \"$@\" >"+p.path("opened")+"\n", "bin", "xdg-open")
	p.chmod(0o755, "bin", "xdg-open")
	p.extra = append(p.extra, "PATH="+p.path("bin")+":"+os.Getenv("PATH"))
	_ = p.unicrux("key", "register", "lantern_ed25519", "lantern", "--by-hand", "--wait", "0", "--open")
	eventually(t, "the browser", func() bool { return p.exists("opened") })
	if got := p.read("opened"); !strings.HasSuffix(strings.TrimSpace(got), "/keys") ||
		strings.Count(got, "https://") != 1 {
		t.Errorf("opened %q", got)
	}
}
