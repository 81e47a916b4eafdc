package acceptance

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"
)

// apiHost is a described host with an API of the test's own.
func (p *person) apiHost(name, operations string, handle http.HandlerFunc) {
	p.t.Helper()
	host := name + ".tidewater.example"
	server := httptest.NewUnstartedServer(handle)
	cert, key := certificate(p.t, p.t.TempDir(), host)
	server.StartTLS()
	p.t.Cleanup(server.Close)
	useCertificate(p.t, server, cert, key)
	at := server.Listener.Addr().String()
	p.write(fmt.Sprintf("unicrux = 1\nname = %q\n[ssh]\nhost = %q\nuser = \"git\"\n[interface]\nurl = \"https://%s:%s/\"\naddress = \"127.0.0.1\"\nheader = \"X: {token}\"\nauthority = \"\"\"%s\"\"\"\n[operations]\n%s",
		name, host, host, at[strings.LastIndex(at, ":")+1:], p.read2(cert), operations), name+".toml")
	p.write("a-token\n", "token")
	p.must("host", "add", p.path(name+".toml"))
}

// page is the address of a web page at a server that this person's system trusts.
func (p *person) page(text string) (url string) {
	p.t.Helper()
	const host = "localhost"
	server := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		_, _ = fmt.Fprint(w, text)
	}))
	cert, key := certificate(p.t, p.t.TempDir(), host)
	server.StartTLS()
	p.t.Cleanup(server.Close)
	useCertificate(p.t, server, cert, key)
	p.write(p.readIfThere("system.pem")+p.read2(cert), "system.pem")
	p.extra = append(p.extra, "SSL_CERT_FILE="+p.path("system.pem"))
	at := server.Listener.Addr().String()
	return "https://" + host + at[strings.LastIndex(at, ":"):] + "/keys"
}

// slowHost lists repositories, keys and tokens.
func (p *person) slowHost(handle http.HandlerFunc) {
	p.t.Helper()
	p.apiHost("slow", `who = { path = "me", fields = { account = "$.a" } }
list-keys = { path = "keys", fields = { id = "$.id", title = "$.t", line = "$.l" } }
list-tokens = { path = "tokens", fields = { id = "$.id" } }
list-repos = { path = "repos", paging = { by = "link" }, fields = { path = "$.p" } }
`, handle)
}

// TestSilentHost: a host that takes connections and never answers is not waited for once for each thing.
func TestSilentHost(t *testing.T) {
	t.Parallel()
	p := newPerson(t)
	ended := make(chan struct{})
	p.slowHost(func(http.ResponseWriter, *http.Request) { <-ended })
	defer close(ended)
	r := p.unicrux("host", "test", "slow", "--token-from", p.path("token"), "--timeout", "200ms")
	if r.exit != 1 || strings.Count(r.out, "fails") != 2 || strings.Count(r.out, "could not be reached twice") != 2 {
		t.Errorf("%s", r)
	}
}

// TestPagesWithoutEnd: a list that goes on and on is not followed for ever.
func TestPagesWithoutEnd(t *testing.T) {
	t.Parallel()
	p := newPerson(t)
	n := 0
	p.slowHost(func(w http.ResponseWriter, r *http.Request) {
		n++
		select {
		case <-time.After(20 * time.Millisecond): // it is slow, and each page comes in time
		case <-r.Context().Done():
		}
		w.Header().Set("Link", fmt.Sprintf(`<%s?page=%d>; rel="next"`, r.URL.Path, n))
		_, _ = fmt.Fprintf(w, `[{"p":"buoys/x%d"}]`, n)
	})
	r := p.unicrux("repo", "list", "slow", "--token-from", p.path("token"), "--timeout", "1s")
	said := strings.Join(strings.Fields(r.err), " ")
	if r.exit != 1 || !strings.Contains(said, "after 12s") || !strings.Contains(said, "--search TEXT") ||
		!strings.Contains(r.out, "buoys/x9") {
		t.Errorf("%s", r)
	}
}

// TestChoosesAWorkspace: where an account has several workspaces, the person is asked once, and what she chose holds.
func TestChoosesAWorkspace(t *testing.T) {
	t.Parallel()
	p := newPerson(t)
	p.apiHost("reef", "list-repos = { path = \"spaces/{workspace}/repos\", fields = { path = \"$.p\" } }\n"+
		"[lookups]\nworkspace = { path = \"spaces\", value = \"$.id\", ask = \"$.title\" }\n",
		func(w http.ResponseWriter, r *http.Request) {
			switch r.URL.Path {
			case "/spaces":
				_, _ = fmt.Fprint(w, `[{"id":17,"title":"Tide desk"},{"id":18,"title":"Buoys"}]`)
			case "/spaces/18/repos":
				_, _ = fmt.Fprint(w, `[{"p":"buoys/drift-model"}]`)
			default:
				w.WriteHeader(http.StatusNotFound)
			}
		})
	list := []string{"repo", "list", "reef", "--token-from", p.path("token")}
	if r := p.unicrux(list...); r.exit != 4 || !strings.Contains(r.err, "Tide desk, Buoys") ||
		!strings.Contains(r.err, "unicrux host set reef 'chosen.workspace=Tide desk'") {
		t.Errorf("nobody can be asked: %s", r)
	}
	if r := p.onTerminal([]string{"3\n"}, list...); r.exit != 2 {
		t.Errorf("none of them: %s", r)
	}
	if r := p.onTerminal([]string{"2\n"}, list...); r.exit != 0 || !strings.Contains(r.out, "drift-model") {
		t.Errorf("asked: %s", r)
	}
	if r := p.must(list...); !strings.Contains(r.out, "drift-model") {
		t.Errorf("chosen before: %s", r)
	}
	p.must("undo")
	if r := p.unicrux(list...); r.exit != 4 {
		t.Errorf("after undo: %s", r)
	}
}
