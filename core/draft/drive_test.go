package draft

import (
	"crypto/ed25519"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"slices"
	"strings"
	"testing"

	"golang.org/x/crypto/ssh"

	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/hostapi"
	"anchorage.example/unicrux/core/secret"
)

// A stand is a host that speaks as one of the documents says: two results a page, and nothing that the document does
// not have.
type stand struct {
	who, keys, repos, tokens string // paths
	account                  string // answer of who
	envelope                 func(items []string, r *http.Request, w http.ResponseWriter) string
	id, title, line          string // names in a key; line is two names where it comes in halves
	repo                     func(n int) string
	shows                    func(r *http.Request) string // the token that was shown
	issued                   string                       // answer to who asks for a token
}

// rest is what is asked for: from an offset on, and whether there is more.
func rest(items []string, from int) (page []string, more bool) {
	from = min(max(from, 0), len(items))
	to := min(from+2, len(items))
	return items[from:to], to < len(items)
}

func number(r *http.Request, name string, otherwise int) int {
	n := otherwise
	_, _ = fmt.Sscan(r.URL.Query().Get(name), &n)
	return n
}

func bearer(r *http.Request) string {
	return strings.TrimPrefix(r.Header.Get("Authorization"), "Bearer ")
}

func list(items []string) string { return "[" + strings.Join(items, ",") + "]" }

var stands = map[string]stand{
	"reef.json": {who: "/user", keys: "/user/keys", repos: "/user/repos", account: `{"login":"ines.marlow","id":7}`,
		id: "id", title: "title", line: "key", shows: bearer,
		repo: func(n int) string { return fmt.Sprintf(`{"id":%d,"full_name":"buoys/r%d","private":true}`, n, n) },
		envelope: func(items []string, r *http.Request, w http.ResponseWriter) string {
			at := number(r, "at", 0)
			page, more := rest(items, at)
			if more {
				w.Header().Set("Link", fmt.Sprintf(`<%s?at=%d>; rel="next"`, r.URL.Path, at+2))
			}
			return list(page)
		}},
	"quay.yaml": {who: "/api/v4/user", keys: "/api/v4/user/keys", repos: "/api/v4/projects",
		tokens: "/api/v4/user/personal_access_tokens", account: `{"username":"ines.marlow","id":7,"name":"Ines"}`,
		issued: `{"id":9,"name":"n","scopes":["api"],"token":"new-token"}`,
		id:     "id", title: "title", line: "key",
		shows: func(r *http.Request) string { return r.Header.Get("X-Quay-Token") },
		repo:  func(n int) string { return fmt.Sprintf(`{"id":%d,"path_with_namespace":"buoys/r%d"}`, n, n) },
		envelope: func(items []string, r *http.Request, _ http.ResponseWriter) string {
			page, _ := rest(items, (number(r, "page", 1)-1)*2)
			return list(page)
		}},
	"slip.json": {who: "/api/v1/user", keys: "/api/v1/user/keys", repos: "/api/v1/user/repos",
		tokens: "/api/v1/users/ines.marlow/tokens", account: `{"login":"ines.marlow","id":7}`,
		issued: `{"id":9,"name":"n","sha1":"new-token","scopes":["write:user"]}`,
		id:     "id", title: "title", line: "key",
		shows: func(r *http.Request) string { return strings.TrimPrefix(r.Header.Get("Authorization"), "token ") },
		repo:  func(n int) string { return fmt.Sprintf(`{"id":%d,"full_name":"buoys/r%d"}`, n, n) },
		envelope: func(items []string, r *http.Request, w http.ResponseWriter) string {
			at := number(r, "page", 1)
			page, more := rest(items, (at-1)*2)
			if more {
				w.Header().Set("Link", fmt.Sprintf(`<%s?page=%d>; rel="next"`, r.URL.Path, at+1))
			}
			return list(page)
		}},
	"buoy.json": {who: "/rest/me", keys: "/rest/me/ssh-keys", repos: "/rest/workspaces/tide/repositories",
		account: `{"data":{"handle":"ines.marlow"}}`, id: "keyId", title: "displayName", line: "publicKey",
		shows: bearer,
		repo:  func(n int) string { return fmt.Sprintf(`{"fullPath":"buoys/r%d"}`, n) },
		envelope: func(items []string, r *http.Request, _ http.ResponseWriter) string {
			at := number(r, "cursor", 0)
			page, more := rest(items, at)
			next := "null"
			if more {
				next = fmt.Sprintf("%q", fmt.Sprint(at+2))
			}
			return fmt.Sprintf(`{"data":{"items":%s},"meta":{"nextCursor":%s}}`, list(page), next)
		}},
	"weir.yaml": {who: "/2.0/user", keys: "/2.0/users/ines.marlow/ssh-keys", repos: "/2.0/repositories/ines.marlow",
		account: `{"username":"ines.marlow","uuid":"{7}"}`, id: "uuid", title: "label", line: "key", shows: bearer,
		repo: func(n int) string { return fmt.Sprintf(`{"uuid":"{%d}","full_name":"buoys/r%d"}`, n, n) },
		envelope: func(items []string, r *http.Request, _ http.ResponseWriter) string {
			at := number(r, "at", 0)
			page, more := rest(items, at)
			next := ""
			if more {
				next = fmt.Sprintf(`,"next":"https://%s%s?at=%d"`, r.Host, r.URL.Path, at+2)
			}
			return fmt.Sprintf(`{"values":%s%s}`, list(page), next)
		}},
	"mole.json": {who: "/api/account", keys: "/api/account/keys", repos: "/api/account/repositories",
		tokens: "/api/account/tokens", account: `{"account_name":"ines.marlow","number":7}`,
		issued: `{"secret":"new-token","id":"t9"}`,
		id:     "number", title: "label", line: "algorithm blob",
		shows: func(r *http.Request) string { return r.URL.Query().Get("access_token") },
		repo:  func(n int) string { return fmt.Sprintf(`{"full_name":"buoys/r%d","permission":"push"}`, n) },
		envelope: func(items []string, r *http.Request, _ http.ResponseWriter) string {
			page, _ := rest(items, number(r, "offset", 0))
			return fmt.Sprintf(`{"keys":%s,"repositories":%s}`, list(page), list(page))
		}},
}

// speak answers as the host would.
func (s stand) speak(t *testing.T) http.HandlerFunc {
	keys := map[string]string{} // by id
	n := 0
	return func(w http.ResponseWriter, r *http.Request) {
		user, password, _ := r.BasicAuth()
		if s.shows(r) != "a-token" && (user != "ines.marlow" || password != "a-password") {
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		text, _ := io.ReadAll(r.Body)
		sent := map[string]any{}
		if err := json.Unmarshal(text, &sent); err != nil {
			form, _ := url.ParseQuery(string(text))
			for name := range form {
				sent[name] = form.Get(name)
			}
		}
		var ordered []string
		for _, id := range slices.Sorted(func(yield func(string) bool) {
			for id := range keys {
				if !yield(id) {
					return
				}
			}
		}) {
			ordered = append(ordered, keys[id])
		}
		switch {
		case r.Method == http.MethodGet && r.URL.Path == s.who:
			_, _ = io.WriteString(w, s.account)
		case r.Method == http.MethodGet && r.URL.Path == s.keys:
			_, _ = io.WriteString(w, s.envelope(ordered, r, w))
		case r.Method == http.MethodGet && r.URL.Path == "/rest/me/workspaces":
			_, _ = io.WriteString(w, `{"data":{"items":[{"slug":"tide","title":"Tide desk"}]},"meta":{}}`)
		case r.Method == http.MethodGet && r.URL.Path == s.repos:
			_, _ = io.WriteString(w, s.envelope([]string{s.repo(1), s.repo(2), s.repo(3)}, r, w))
		case r.Method == http.MethodPost && r.URL.Path == s.tokens:
			_, _ = io.WriteString(w, s.issued)
		case r.Method == http.MethodPost && r.URL.Path == s.keys:
			n++
			entry := map[string]any{s.id: fmt.Sprint(n), s.title: sent[s.title]}
			for _, name := range strings.Fields(s.line) {
				if entry[name] = sent[name]; sent[name] == nil {
					t.Errorf("%s: no %s in %s", r.URL.Path, name, text)
				}
			}
			answer, _ := json.Marshal(entry)
			keys[fmt.Sprint(n)] = string(answer)
			if strings.HasPrefix(r.URL.Path, "/rest") {
				answer = fmt.Appendf(nil, `{"data":%s}`, answer)
			}
			_, _ = w.Write(answer)
		case r.Method == http.MethodDelete && strings.HasPrefix(r.URL.Path, s.keys+"/"):
			delete(keys, strings.TrimPrefix(r.URL.Path, s.keys+"/"))
			w.WriteHeader(http.StatusNoContent)
		default:
			w.WriteHeader(http.StatusNotFound)
		}
	}
}

// TestDriven: each draft does what it says at a host of that shape: it is asked who one is, keys are added, listed over
// several pages and removed, repositories listed, and a token is issued where the host has that.
func TestDriven(t *testing.T) {
	t.Parallel()
	for name, s := range stands {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			server := httptest.NewTLSServer(s.speak(t))
			t.Cleanup(server.Close)
			r, err := Of(sample(t, name), Options{})
			if err != nil {
				t.Fatal(err)
			}
			d, err := describe.Parse([]byte(r.Text))
			if err != nil {
				t.Fatal(err)
			}
			at, _ := url.Parse(d.Interface.URL)
			d.Interface.URL = server.URL + at.Path
			d.Interface.Authority = string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE",
				Bytes: server.Certificate().Raw}))
			c := &hostapi.Client{Description: d, Token: d.Bind(secret.New([]byte("a-token"))),
				Account: "ines.marlow", Password: secret.New([]byte("a-password"))}
			if who, err := c.Who(t.Context()); err != nil || who != "ines.marlow" {
				t.Errorf("who: %q, %v", who, err)
			}
			var ids []hostapi.RegisteredKey
			for i := range 3 {
				key, err := ssh.NewPublicKey(ed25519.NewKeyFromSeed([]byte(strings.Repeat(string(rune('a'+i)),
					32))).Public())
				if err != nil {
					t.Fatal(err)
				}
				id, err := c.AddKey(t.Context(), hostapi.KeyRequest{Key: key, Title: fmt.Sprint("key ", i)})
				if err != nil || id == "" {
					t.Fatalf("add: %q, %v", id, err)
				}
			}
			if ids, err = c.Keys(t.Context(), hostapi.KeyList{}); err != nil || len(ids) != 3 ||
				ids[2].Title != "key 2" {
				t.Fatalf("list: %+v, %v", ids, err)
			}
			if err := c.RemoveKey(t.Context(), ids[1], hostapi.KeyList{}); err != nil {
				t.Errorf("remove: %v", err)
			}
			if ids, err = c.Keys(t.Context(), hostapi.KeyList{}); err != nil || len(ids) != 2 {
				t.Errorf("afterwards: %+v, %v", ids, err)
			}
			repos := 0
			if err := c.Repos(t.Context(), "",
				func(hostapi.Repo) bool { repos++; return true }); err != nil || repos != 3 {
				t.Errorf("%d repositories, %v", repos, err)
			}
			if s.issued == "" {
				return
			}
			token, err := c.IssueToken(t.Context(), hostapi.TokenRequest{Label: "on driftwood",
				Purposes: []string{"push"}})
			if err != nil || string(token.Token.Reveal()) != "new-token" {
				t.Errorf("issue: %+v, %v", token, err)
			}
		})
	}
}
