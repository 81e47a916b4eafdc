package hostapi

import (
	"bytes"
	"crypto/ed25519"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/origin"
	"anchorage.example/unicrux/core/secret"
)

// speaking is a client for a test server that does as answer says, by a description whose
// operations are given.
func speaking(t testing.TB, operations string, answer http.HandlerFunc) *Client {
	t.Helper()
	server := httptest.NewTLSServer(answer)
	t.Cleanup(server.Close)
	authority := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: server.Certificate().Raw})
	text := fmt.Sprintf("unicrux = 1\nname = \"forge\"\n[ssh]\nhost = \"forge.tidewater.example\"\nuser = \"git\"\n[interface]\nurl = %q\nauthority = \"\"\"%s\"\"\"\n%s",
		server.URL+"/base/", authority, operations)
	d, err := describe.Parse([]byte(text))
	if err != nil {
		t.Fatal(err)
	}
	return &Client{Description: d, Token: d.Bind(secret.New([]byte("token-of-ines")))}
}

const (
	asHeader = "header = \"X-Pass: {token}\"\n"
	who      = "[operations.who]\npath = \"me\"\nfields = { account = \"$.account.name\" }\n"
)

func publicKey(t testing.TB) ssh.PublicKey {
	t.Helper()
	key, err := ssh.NewPublicKey(ed25519.NewKeyFromSeed(bytes.Repeat([]byte{7}, ed25519.SeedSize)).Public())
	if err != nil {
		t.Fatal(err)
	}
	return key
}

// asking keeps what a test server is asked.
type asking []string

func (a *asking) note(r *http.Request) {
	body, _ := io.ReadAll(r.Body)
	*a = append(*a, strings.TrimSpace(r.Method+" "+r.URL.RequestURI()+" "+r.Header.Get("X-Pass")+" "+string(body)))
}

// TestShapesOfRequests has the ways in which interfaces want to be told things.
func TestShapesOfRequests(t *testing.T) {
	t.Parallel()
	key := publicKey(t)
	line := strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key)))
	kind, blob, _ := strings.Cut(line, " ")
	until := time.Date(2027, 3, 31, 12, 0, 0, 0, time.UTC)
	full := KeyRequest{Key: key, Title: `a "title"`, Until: until, Access: Read}
	const add = "[operations.add-key]\nmethod = \"POST\"\npath = \"keys\"\nfields = { id = \"$.id\" }\n"
	for _, row := range []struct {
		name, operations string
		request          KeyRequest
		want             string
	}{
		{"JSON", add + `body = { title = "{title}", line = "{line}", until = "{until}" }`, full,
			`POST /base/keys token-of-ines {"line":"` + line +
				`","title":"a \"title\"","until":"2027-03-31T12:00:00Z"}`},
		{"what is empty is left out",
			add + `body = { title = "{title}", line = "{line}", until = "{until}", access = "{access}", deep = { until = "{until}" } }`, KeyRequest{Key: key, Title: "x"},
			`POST /base/keys token-of-ines {"line":"` + line + `","title":"x"}`},
		{"words, nested objects, lists and seconds",
			"dates = \"seconds\"\n[words]\naccess = { read = true, write = false }\n" + add +
				`body = { key = { k = "{kind}", b = ["{blob}", 7] }, read_only = "{access}", expires = "{until}", fixed = 1 }`, full,
			fmt.Sprintf(`POST /base/keys token-of-ines {"expires":%d,"fixed":1,"key":{"b":["%s",7],"k":"%s"},"read_only":true}`, until.Unix(), blob, kind)},
		{"form", add + `form = { title = "{title}", key = "{line}", ends = "{until}" }` + "\ndates = \"day\"", full,
			"POST /base/keys token-of-ines ends=2027-03-31&key=" + strings.NewReplacer(" ", "+", "/", "%2F", "+",
				"%2B", "=", "%3D").Replace(line) + "&title=a+%22title%22"},
	} {
		var asked asking
		operations := row.operations
		client := speaking(t, asHeader+operations, func(w http.ResponseWriter, r *http.Request) {
			asked.note(r)
			_, _ = fmt.Fprint(w, `{"id":9007199254740993}`)
		})
		id, err := client.AddKey(t.Context(), row.request)
		if err != nil || id != "9007199254740993" || len(asked) != 1 || (row.name != "form" && asked[0] != row.want) {
			t.Errorf("%s: %q, %v\ngot  %s\nwant %s", row.name, id, err, asked, row.want)
		}
		if row.name == "form" && !strings.Contains(asked[0], "ends=2027-03-31&key=ssh-ed25519+AAAA") {
			t.Errorf("form: %s", asked)
		}
	}
}

// TestSignIn has the ways in which a token is shown.
func TestSignIn(t *testing.T) {
	t.Parallel()
	for _, row := range []struct{ name, way, want string }{
		{"header", "header = \"Authorization: Bearer {token}\"\n", "Bearer token-of-ines /base/me"},
		{"basic", "basic = \"x-token:{token}\"\n", "x-token token-of-ines /base/me"},
		{"query", "query = \"access_token\"\n", "/base/me?access_token=token-of-ines"},
		{"extra headers", "header = \"Authorization: {token}\"\nheaders = { X-Version = \"4\" }\n",
			"4 token-of-ines /base/me"},
	} {
		got := ""
		client := speaking(t, row.way+who, func(w http.ResponseWriter, r *http.Request) {
			user, word, _ := r.BasicAuth()
			header := r.Header.Get("Authorization")
			if user != "" {
				header = user + " " + word
			}
			got = strings.TrimSpace(strings.TrimSpace(r.Header.Get("X-Version")+" "+header) + " " + r.URL.RequestURI())
			_, _ = fmt.Fprint(w, `{"account":{"name":"ines.marlow"}}`)
		})
		if account, err := client.Who(t.Context()); account != "ines.marlow" || err != nil || got != row.want {
			t.Errorf("%s: %q, %v; asked %q, want %q", row.name, account, err, got, row.want)
		}
	}
}

// pagesOf answers with the numbers 1 to 5, two on a page, in whatever way the list goes on.
func pagesOf(w http.ResponseWriter, r *http.Request) {
	page := 1
	for _, name := range []string{"page", "after", "start"} {
		if text := r.URL.Query().Get(name); text != "" {
			_, _ = fmt.Sscan(text, &page)
			if name == "start" {
				page = (page+1)/2 + 1
			}
		}
	}
	var list []string
	for n := 2*page - 1; n <= min(2*page, 5); n++ {
		list = append(list, fmt.Sprintf(`{"full":"buoys/r%d"}`, n))
	}
	next := ""
	if page < 3 {
		next = fmt.Sprintf("https://%s/base/repos?page=%d", r.Host, page+1)
		w.Header().Set("Link", fmt.Sprintf(`<%s>; rel="next", <https://x.example/>; rel="last"`, next))
	}
	w.Header().Set("X-Pages", "3")
	_, _ = fmt.Fprintf(w, `{"list":[%s],"next":%q,"cursor":"%d","more":%v}`, strings.Join(list, ","), next,
		page+1, page < 3)
}

func TestLongLists(t *testing.T) {
	t.Parallel()
	for _, row := range []struct{ path, paging string }{
		{"repos", `by = "link"`}, {"repos", `by = "next", at = "$.next"`}, {"repos{?page}", `by = "page"`},
		{"repos{?page}", `by = "page", last = "header X-Pages"`}, {"repos?x=1{&cursor}", ``},
		{"repos{?after}", `by = "cursor", at = "$.cursor", more = "$.more"`}, {"repos{?start}", `by = "offset"`},
	} {
		variable := strings.NewReplacer("after", "cursor", "start", "offset").Replace(row.path)
		paging := "\npaging = { " + row.paging + " }"
		want := []string{"buoys/r1", "buoys/r2", "buoys/r3", "buoys/r4", "buoys/r5"}
		if row.paging == "" {
			paging, variable, want = "", "repos", want[:2]
		}
		client := speaking(t, "[operations.list-repos]\npath = \""+variable+
			"\"\nitems = \"$.list[?@.full]\"\nfields = { path = \"$.full\" }"+paging,
			func(w http.ResponseWriter, r *http.Request) {
				r.URL.RawQuery = strings.NewReplacer("cursor", "after", "offset", "start").Replace(r.URL.RawQuery)
				pagesOf(w, r)
			})
		var got []string
		err := client.Repos(t.Context(), "", func(repo Repo) bool { got = append(got, repo.Path); return true })
		if err != nil || !slices.Equal(got, want) {
			t.Errorf("%s: %v, %v", row.paging, got, err)
		}
	}
}

func TestAuthorityIsTheDescriptionsOwn(t *testing.T) {
	t.Parallel()
	client := speaking(t, who, func(http.ResponseWriter, *http.Request) { t.Error("the request went through") })
	client.Description.Interface.Authority = ""
	if _, err := client.Who(t.Context()); !errors.Is(err, origin.ErrElsewhere) {
		t.Errorf("a token that was kept for another authority: %v", err)
	}
	client.Token = client.Description.Bind(secret.New([]byte("token-of-ines")))
	_, err := client.Who(t.Context())
	if !errors.Is(err, ErrAuthority) {
		t.Errorf("%v, want ErrAuthority", err)
	}
	if strings.Contains(fmt.Sprintf("%+v %v", client, err), "token-of-ines") {
		t.Error("the token got out")
	}
}

func TestScopes(t *testing.T) {
	t.Parallel()
	d := &describe.Description{Purposes: map[string][]string{"clone": {"r"}, "push": {"r", "w"}}}
	if scopes, err := Scopes(d, []string{"clone", "push"}); err != nil || !slices.Equal(scopes, []string{"r", "w"}) {
		t.Errorf("%v, %v", scopes, err)
	}
	if scopes, err := Scopes(&describe.Description{}, []string{"clone"}); err != nil || scopes != nil {
		t.Errorf("a host without scopes: %v, %v", scopes, err)
	}
}

// TestShapesOfAnswers finds values wherever interfaces put them.
func TestShapesOfAnswers(t *testing.T) {
	t.Parallel()
	key := publicKey(t)
	line := strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key)))
	const add = "[operations.add-key]\nmethod = \"POST\"\npath = \"keys\"\n"
	for _, row := range []struct {
		name, operations string
		serve            func(w http.ResponseWriter, r *http.Request)
		want             string
	}{
		{"headers alone", add + "fields = { id = \"header Location\" }\ncut = { id = '/keys/(\\d+)$' }\nbody = { line = \"{line}\" }", func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Location", "https://h.example/base/keys/4711")
			w.WriteHeader(http.StatusCreated)
		}, "4711"},
		{"a guard", "guard = \")]}'\"\n" + add + "fields = { id = \"$.id\" }\nbody = { line = \"{line}\" }",
			func(w http.ResponseWriter, _ *http.Request) {
				_, _ = fmt.Fprint(w, ")]}'\n{\"id\":4711}")
			}, "4711"},
		{"plain text, both ways",
			add + "fields = { id = \"$\" }\ncut = { id = '^key (\\d+)' }\ntext = \"{line}\"\nheaders = { Accept = \"text/plain\" }", func(w http.ResponseWriter, r *http.Request) {
				sent, _ := io.ReadAll(r.Body)
				if string(sent) != line || r.Header.Get("Content-Type") != "text/plain; charset=utf-8" ||
					r.Header.Get("Accept") != "text/plain" {
					t.Errorf("sent %q as %v", sent, r.Header)
				}
				w.Header().Set("Content-Type", "text/plain")
				_, _ = fmt.Fprint(w, "key 4711 was taken\n")
			}, "4711"},
		{"a form that is not there",
			add + "fields = { id = \"$.url\" }\ncut = { id = '/(\\d+)$' }\nbody = { line = \"{line}\" }",
			func(w http.ResponseWriter, _ *http.Request) {
				_, _ = fmt.Fprint(w, `{"url":"https://h.example/keys/none"}`)
			}, ""},
	} {
		guard, operations, found := strings.Cut(row.operations, "\n[")
		if !strings.HasPrefix(guard, "guard") {
			guard, operations = "", row.operations
		} else if found {
			operations = "[" + operations
		}
		client := speaking(t, asHeader+guard+"\n"+operations, row.serve)
		if id, err := client.AddKey(t.Context(), KeyRequest{Key: key, Title: "x"}); id != row.want ||
			(err == nil) != (row.want != "") {
			t.Errorf("%s: %q, %v, want %q", row.name, id, err, row.want)
		}
	}
}

// TestBasicByTheAccountOfTheToken signs in with the account that the chest knows: an interface that wants a name
// beside the token cannot be asked for it first.
func TestBasicByTheAccountOfTheToken(t *testing.T) {
	t.Parallel()
	client := speaking(t, "basic = \"{account}:{token}\"\n"+who, func(w http.ResponseWriter, r *http.Request) {
		user, word, _ := r.BasicAuth()
		_, _ = fmt.Fprintf(w, `{"account":{"name":%q}}`, user+" by "+word)
	})
	if _, err := client.Who(t.Context()); !errors.Is(err, ErrWhose) {
		t.Errorf("nobody knows whose: %v", err)
	}
	client.Token = client.Token.Of("ines")
	if name, err := client.Who(t.Context()); err != nil || name != "ines by token-of-ines" {
		t.Errorf("%q, %v", name, err)
	}
}
