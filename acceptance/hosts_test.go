package acceptance

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/crypto/ssh"
)

// publicKeyOf reads the public key of one of the person's keys.
func (p *person) publicKeyOf(name string) ssh.PublicKey {
	p.t.Helper()
	key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(p.read(".ssh", name+".pub")))
	if err != nil {
		p.t.Fatal(err)
	}
	return key
}

// TestSameJourneyEverywhere goes the same way on three hosts of very different shapes:
// register, compare, look at the repositories, clone, push, withdraw.
func TestSameJourneyEverywhere(t *testing.T) {
	t.Parallel()
	for _, host := range []struct{ name, repo, account string }{
		{"forge", "buoys/drift-model", "ines.marlow"}, {"saltmarsh", "buoys/drift-model", "imarlow"},
		{"lantern", "harbour/lamp-firmware", "ines"},
	} {
		t.Run(host.name, func(t *testing.T) {
			t.Parallel()
			p := at(t, host.name).withChest()
			key := host.name + "_ed25519"
			var token []string
			if host.name != "lantern" {
				token = []string{"--token-from", p.host.TokenFile()}
			}
			with := func(args ...string) []string { return append(args, token...) }
			p.must("key", "new", "--host", host.name, "--no-passphrase")
			p.must("host", "trust", host.name)
			if host.name == "lantern" { // a person pastes the line
				if _, err := p.host.Register("ines", "pasted", p.publicKeyOf(key)); err != nil {
					t.Fatal(err)
				}
			}
			r := p.must(with("key", "register", key, host.name)...)
			if !strings.Contains(r.out, "the host greets you as "+host.account) {
				t.Errorf("register: %s", r)
			}
			p.must("key", "new", "other", "--no-passphrase")
			if r := p.must(with("key", "compare", host.name)...); !strings.Contains(r.out, "both") ||
				!strings.Contains(r.out, "only here") {
				t.Errorf("compare: %s", r)
			}
			p.tokenAndRepository(host.name, token)
			url := p.host.CloneURL(host.repo)
			p.mustGit("clone", "--quiet", url, "work")
			p.write("more\n", "work", "more.txt")
			p.mustGit("-C", "work", "add", "more.txt")
			p.mustGit("-C", "work", "commit", "--quiet", "--message", "More")
			p.mustGit("-C", "work", "push", "--quiet")
			if c := p.check(url, "--for", "push"); !c.Open || c.Account == nil || *c.Account != host.account {
				t.Errorf("check: %+v", c)
			}
			if host.name == "lantern" {
				p.host.Forget(p.publicKeyOf(key))
				token = []string{"--wait", "0"}
			}
			r = p.must(with("key", "withdraw", key, host.name)...)
			if r := p.git("-C", "work", "fetch"); r.exit == 0 {
				t.Errorf("withdrawn, and it still opens: %s", r)
			}
			if c := p.check(url); c.Open || c.Crux.Code != "key-not-registered" {
				t.Errorf("after withdrawing: %+v", c)
			}
		})
	}
}

// tokenAndRepository keeps a token for HTTPS, as the host has it, and creates a repository for a
// folder.
func (p *person) tokenAndRepository(host string, token []string) {
	p.t.Helper()
	p.write("a\n", "fresh", "a.txt")
	words := []string{"--chest-passphrase-from", p.path("chest-words")}
	if host == "lantern" { // by hand: it says where, and proves what is there
		if r := p.unicrux("token", "new", host); r.exit != 1 ||
			!strings.Contains(r.err, "does not say how to issue tokens") {
			p.t.Errorf("token new: %s", r)
		}
		p.must("repo", "new", host, "harbour/lamp-firmware", "--wait", "0")
		return
	}
	p.must(append([]string{"token", "add", host, "--from", p.host.TokenFile()}, words...)...)
	p.openChest()
	r := p.must(append([]string{"repo", "new", host, "buoys/fresh", "--attach", "fresh",
		"--commit"}, token...)...)
	if !strings.Contains(r.out, "branch main is pushed") {
		p.t.Errorf("repo new: %s", r)
	}
	p.mustGit("clone", "--quiet", p.cloneHTTPS("buoys/fresh"), "by-https")
	p.commit("by-https", "b.txt")
	p.mustGit("-C", "by-https", "push", "--quiet")
}

// TestByHandWaits tells what is still not so, when nobody pasted or took away anything.
func TestByHandWaits(t *testing.T) {
	t.Parallel()
	p := at(t, "lantern")
	p.must("key", "new", "--host", "lantern", "--no-passphrase")
	p.must("host", "trust", "lantern")
	if r := p.unicrux("key", "register", "lantern_ed25519", "lantern", "--wait", "0"); r.exit != 1 ||
		!strings.Contains(r.err, "ssh-ed25519 AAAA") || !strings.Contains(r.err, "/keys") {
		t.Errorf("nobody pasted it: %s", r)
	}
	if _, err := p.host.Register("ines", "pasted", p.publicKeyOf("lantern_ed25519")); err != nil {
		t.Fatal(err)
	}
	p.must("key", "register", "lantern_ed25519", "lantern", "--wait", "0")
	if r := p.unicrux("key", "withdraw", "lantern_ed25519", "lantern", "--wait", "0"); r.exit != 1 ||
		!strings.Contains(r.err, "still accepts the key") {
		t.Errorf("nobody took it away: %s", r)
	}
	if r := p.unicrux("repo", "list", "lantern"); r.exit != 1 || !strings.Contains(r.err, "does not say how") {
		t.Errorf("repositories: %s", r)
	}
	p.write("x", "folder", "x")
	if r := p.unicrux("repo", "new", "lantern", "tools/wick", "--attach", "folder", "--wait", "0"); r.exit != 1 ||
		!strings.Contains(r.err, "no such repository yet") {
		t.Errorf("nobody created it: %s", r)
	}
	if p.exists("folder", ".git") {
		t.Error("the folder was changed for a repository that there is not")
	}
	r := p.must("repo", "new", "lantern", "harbour/lamp-firmware", "--attach", "folder", "--wait", "0")
	if !strings.Contains(r.out, "remote origin") || !strings.Contains(r.out, "Nothing is committed there yet") {
		t.Errorf("one that is there: %s", r)
	}
}

// TestHostTest tries descriptions live, also what changes something, and leaves nothing behind.
func TestHostTest(t *testing.T) {
	t.Parallel()
	for name, want := range map[string][]string{
		"forge": {"who works ines.marlow", "add-key works it is listed, until", "remove-key works taken back",
			"issue-token works it is ines.marlow's", "revoke-token works taken back", "add-repo not tried",
			"oauth works"},
		"saltmarsh": {"who works imarlow", "add-repo-key works it is listed, until",
			"remove-repo-key works taken back", "issue-token not tried the host requires the account's password",
			"To be done on its web page: host-keys"},
	} {
		p := at(t, name)
		before := p.host.Passes(p.host.Owner())
		r := p.must("host", "test", name, "--token-from", p.host.TokenFile(), "--changes")
		told := strings.Join(strings.Fields(r.out), " ")
		for _, words := range want {
			if !strings.Contains(told, words) {
				t.Errorf("%s: no %q: %s", name, words, r)
			}
		}
		if after := p.host.Passes(p.host.Owner()); after != before {
			t.Errorf("%s: %d tokens, there were %d", name, after, before)
		}
		if r := p.must("key", "compare", name, "--token-from", p.host.TokenFile()); !strings.Contains(r.out,
			"There is no key here, and "+name+" knows none") {
			t.Errorf("%s: %s", name, r)
		}
		var document struct {
			Schema string
			Trials []struct{ Operation, State string }
		}
		r = p.must("host", "test", name, "--token-from", p.host.TokenFile(), "--json")
		if err := json.Unmarshal([]byte(r.out), &document); err != nil || document.Schema != "unicrux.trials/1" ||
			len(document.Trials) < 16 {
			t.Errorf("%s: %v: %s", name, err, r)
		}
	}
	p := at(t, "forge")
	p.edit(`account = "$.account"`, `account = "$.accuont"`, ".config", "unicrux", "hosts", "forge.toml")
	if r := p.unicrux("host", "test", "forge", "--token-from", p.host.TokenFile()); r.exit != 1 ||
		!strings.Contains(strings.Join(strings.Fields(r.out), " "),
			"who fails the host's API answers something that its description does not expect: who reports no account") {
		t.Errorf("a wrong place: %s", r)
	}
}

// TestKeysForOneRepository registers a key for one repository alone, which opens nothing else.
func TestKeysForOneRepository(t *testing.T) {
	t.Parallel()
	p := at(t, "saltmarsh")
	p.must("host", "trust", "saltmarsh")
	p.must("key", "new", "robot", "--no-passphrase")
	token := []string{"--token-from", p.host.TokenFile()}
	p.must("host", "set", "saltmarsh", "key=robot")
	p.must(append([]string{"key", "register", "robot", "saltmarsh", "--repo", "buoys/drift-model", "--access", "read",
		"--until", "30d", "--title", "robot"}, token...)...)
	if r := p.must(append([]string{"key", "compare", "saltmarsh", "--repo", "buoys/drift-model"},
		token...)...); !strings.Contains(r.out, "reads only") || !strings.Contains(r.out, "expires in ") {
		t.Errorf("compare: %s", r)
	}
	p.mustGit("ls-remote", p.host.CloneURL("buoys/drift-model"))
	if r := p.git("ls-remote", p.host.CloneURL("buoys/tide-tables")); r.exit == 0 {
		t.Errorf("it opens another repository: %s", r)
	}
	if r := p.unicrux(append([]string{"key", "register", "robot", "saltmarsh", "--repo", "buoys/nothing"},
		token...)...); r.exit != 1 || !strings.Contains(r.err, "lists nothing of that name") {
		t.Errorf("a repository that there is not: %s", r)
	}
	p.must(append([]string{"undo"}, token...)...)
	if r := p.git("ls-remote", p.host.CloneURL("buoys/drift-model")); r.exit == 0 {
		t.Errorf("taken back, and it still opens: %s", r)
	}
}

// TestNewRepository creates repositories, attaches folders in every state, and goes on where
// it was cut short.
func TestNewRepository(t *testing.T) {
	t.Parallel()
	p := settled(t)
	token := []string{"--token-from", p.host.TokenFile()}
	made := func(args ...string) result {
		return p.unicrux(append(append([]string{"repo", "new"}, args...), token...)...)
	}
	p.write("a\n", "plain", "a.txt")
	if r := made("forge", "buoys/spring", "--attach", "plain", "--commit"); r.exit != 0 ||
		!strings.Contains(r.out, "is a git repository now") || !strings.Contains(r.out, "branch main is pushed") {
		t.Fatalf("a plain folder: %s", r)
	}
	p.mustGit("-C", "plain", "push") // a plain push goes there
	if r := made("forge", "buoys/spring", "--attach", "plain", "--commit"); r.exit != 0 ||
		!strings.Contains(r.out, "was on forge already") {
		t.Errorf("twice: %s", r)
	}
	r := p.must(append([]string{"repo", "list", "forge", "--search", "spring"}, token...)...)
	if lines := strings.Fields(r.out); strings.Join(lines, " ") != "buoys/spring read and write private" {
		t.Errorf("list: %s", r)
	}
	p.mustGit("init", "--quiet", "--initial-branch=trunk", "own")
	p.mustGit("-C", "own", "commit", "--quiet", "--allow-empty", "--message", "Begin")
	p.mustGit("-C", "own", "remote", "add", "origin", "git@elsewhere.example:x/y.git")
	if r := made("forge", "buoys/own", "--attach", "own"); r.exit != 0 ||
		!strings.Contains(r.out, "as its remote forge") || !strings.Contains(r.out, "branch trunk is pushed") {
		t.Errorf("a repository with a remote: %s", r)
	}
	if r := p.must("undo"); !strings.Contains(r.out, "forge keeps the repository buoys/own") ||
		!strings.Contains(r.out, "Partly taken back") ||
		strings.Contains(p.read("own", ".git", "config"), "forge") {
		t.Errorf("undo: %s", r)
	}
	for name, row := range map[string]struct {
		args []string
		exit int
		want string
	}{
		"no name":                   {[]string{"forge", "a b"}, 2, "a repository is named by"},
		"out of the host":           {[]string{"forge", "../x"}, 2, "a repository is named by"},
		"no folder":                 {[]string{"forge", "buoys/x", "--attach", "nowhere"}, 2, "not a folder"},
		"inside another repository": {[]string{"forge", "buoys/x", "--attach", "own/.git/hooks"}, 1, ""},
		"commit of nothing":         {[]string{"forge", "buoys/x", "--commit"}, 2, "--commit needs --attach"},
		"refused":                   {[]string{"forge", "BUOYS/x"}, 1, "this is no name for a repository"},
	} {
		if r := made(row.args...); r.exit != row.exit || !strings.Contains(r.err, row.want) {
			t.Errorf("%s: %s", name, r)
		}
	}
	if r := p.must(append([]string{"repo", "list", "forge", "--json"},
		token...)...); strings.Contains(r.out, "buoys/x") {
		t.Errorf("something was created for a command that failed: %s", r)
	}
}

// TestThousandsOfRepositories lists more than anybody has, page after page.
func TestThousandsOfRepositories(t *testing.T) {
	t.Parallel()
	p := withHost(t)
	p.host.Plant("ines.marlow", "many", 3000)
	r := p.must("repo", "list", "forge", "--search", "many/", "--token-from", p.host.TokenFile())
	if n := strings.Count(r.out, "\n"); n != 3000 || !strings.Contains(r.err, "3000 repositories") {
		t.Errorf("%d lines: %s", n, r.err)
	}
}

// TestDescriptionFromAnAddress gets a description over https, shows what it names, and keeps
// it only when that was agreed to.
func TestDescriptionFromAnAddress(t *testing.T) {
	t.Parallel()
	p := newPerson(t)
	text := "unicrux = 1\nname = \"forge\"\n[ssh]\nhost = \"forge.tidewater.example\"\nuser = \"git\"\naddress = \"127.0.0.1\"\n[interface]\nurl = \"https://api.tidewater.example/\"\n"
	mux := http.NewServeMux()
	mux.HandleFunc("/forge.toml", func(w http.ResponseWriter, _ *http.Request) { _, _ = fmt.Fprint(w, text) })
	mux.HandleFunc("/page", func(w http.ResponseWriter, _ *http.Request) { _, _ = fmt.Fprint(w, "<html>Sign in") })
	mux.HandleFunc("/plain", func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, "http://127.0.0.1:1/forge.toml", http.StatusFound)
	})
	mux.HandleFunc("/wrong", func(w http.ResponseWriter, _ *http.Request) {
		_,
			_ = fmt.Fprint(w, text+"hedaer = \"x\"\n")
	})
	server := httptest.NewUnstartedServer(mux)
	cert, key := certificate(t, t.TempDir(), "localhost")
	server.StartTLS()
	defer server.Close()
	useCertificate(t, server, cert, key)
	base := strings.Replace(server.URL, "127.0.0.1", "localhost", 1)
	p.extra = append(p.extra, "SSL_CERT_FILE="+cert)
	if r := p.unicrux("host", "add", base+"/forge.toml"); r.exit != 4 ||
		!strings.Contains(r.err, "https://api.tidewater.example") || !strings.Contains(r.err, "SHA256:") ||
		!strings.Contains(r.err, "--yes") {
		t.Errorf("not agreed to: %s", r)
	}
	if p.exists(".config", "unicrux", "hosts", "forge.toml") {
		t.Error("it was kept all the same")
	}
	p.must("host", "add", base+"/forge.toml", "--yes")
	if kept := p.read(".config", "unicrux", "hosts", "forge.toml"); kept != text {
		t.Errorf("kept:\n%s", kept)
	}
	for path, want := range map[string]string{"/page": "a web page", "/nothing": "HTTP 404",
		"/plain": "https only",
		"/wrong": `line 9: interface.hedaer: a word that the language does not know; "header" was perhaps meant`} {
		if r := p.unicrux("host", "add", base+path, "--yes"); r.exit == 0 || !strings.Contains(r.err, want) {
			t.Errorf("%s: %s", path, r)
		}
	}
	if r := p.unicrux("host", "add", "http://localhost/forge.toml", "--yes"); r.exit != 2 ||
		!strings.Contains(r.err, "https only") {
		t.Errorf("plain http: %s", r)
	}
}

// TestHostileHost has an interface that wants to write to the terminal and lie about ids.
func TestHostileHost(t *testing.T) {
	t.Parallel()
	p := newPerson(t)
	var asked []string
	p.must("key", "new", "mine", "--no-passphrase")
	p.apiHost("hostile", `who = { path = "me", fields = { account = "$.a" } }
list-keys = { path = "keys", fields = { id = "$.id", title = "$.t", line = "$.l" } }
add-key = { method = "POST", path = "keys/new", body = { l = "{line}" } }
remove-key = { method = "DELETE", path = "keys/{id}" }
list-repos = { path = "repos", fields = { path = "$.p" } }
`, func(w http.ResponseWriter, r *http.Request) {
		asked = append(asked, r.Method+" "+r.URL.RequestURI())
		switch r.URL.Path {
		case "/me":
			_, _ = fmt.Fprint(w, `{"a":"ines\u001b[2J\r\nroot"}`)
		case "/repos":
			_, _ = fmt.Fprint(w, `[{"p":"\u001b]0;x\u0007../../etc"},{"p":"-rf"},{"p":"`+
				strings.Repeat("x", 5000)+`"}]`)
		case "/keys":
			line := strings.TrimSpace(string(ssh.MarshalAuthorizedKey(p.publicKeyOf("mine"))))
			_, _ = fmt.Fprintf(w, `[{"id":"../../me?x=1#y","t":"\u001b[31mred","l":%q}]`, line)
		default:
			w.WriteHeader(http.StatusForbidden)
			_, _ = fmt.Fprint(w, `{"message":"\u001b[2Jno\u0000 \u202e way"}`)
		}
	})
	for _, args := range [][]string{{"host", "test", "hostile"}, {"repo", "list", "hostile"},
		{"key", "compare", "hostile"}, {"key", "withdraw", "mine", "hostile"},
		{"host", "test", "hostile", "--changes"}} {
		r := p.unicrux(append(args, "--token-from", p.path("token"))...)
		if text := r.out + r.err; strings.ContainsAny(text, "\x1b\x07\x00\r\u202e") ||
			strings.Contains(text, "a-token") {
			t.Errorf("%v: %q", args, text)
		}
	}
	for _, request := range asked {
		if strings.HasPrefix(request, "DELETE") &&
			!strings.HasPrefix(request, "DELETE /keys/..%2F..%2Fme%3Fx%3D1%23y") {
			t.Errorf("an id led elsewhere: %s", request)
		}
	}
	for _, file := range []string{"changes"} { // what is recorded holds no token
		_ = filepath.WalkDir(p.path(".local", "state", "unicrux", file),
			func(path string, entry os.DirEntry, err error) error {
				if err == nil && !entry.IsDir() {
					if text, _ := os.ReadFile(path); strings.Contains(string(text), "a-token") {
						t.Errorf("%s holds the token", path)
					}
				}
				return nil
			})
	}
}

// TestSettingsOfAnyName takes names as people have them: with a port, and numbers in brackets or not.
func TestSettingsOfAnyName(t *testing.T) {
	t.Parallel()
	p := newPerson(t)
	p.write("Host forge.example ::1\n  User ines\n", "some")
	for name, port := range map[string]string{"forge.example": "", "forge.example:2222": "2222", "::1": "",
		"[::1]": "", "[::1]:2222": "2222"} {
		r := p.must("host", "show", name, "--settings", "--ssh-config", p.path("some"))
		if !strings.Contains(r.out, "user  ines") ||
			strings.Contains(r.out, "port  "+port+" (the URL)") != (port != "") {
			t.Errorf("%s: %s", name, r)
		}
	}
	for _, name := range []string{"forge.example:x", "forge.example:0", "a b", ":22"} {
		if r := p.unicrux("host", "show", name, "--settings"); r.exit == 0 {
			t.Errorf("%s: %s", name, r)
		}
	}
}
