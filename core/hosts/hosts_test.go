package hosts

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"golang.org/x/crypto/ssh"

	"unicrux/core/secret"
)

const minimal = `unicrux = 1
name = "forge"
[ssh]
host = "forge.tidewater.example"
user = "git"
`

func TestParse(t *testing.T) {
	d, err := Parse([]byte(minimal))
	if err != nil || d.Port() != 22 || d.Can("add-key") || d.Account("hello") != "" {
		t.Fatalf("%+v, %v", d, err)
	}
	for _, row := range []struct {
		name, text, place string
		line              int
	}{
		{"no TOML", "unicrux = ", "", 1},
		{"unknown word", minimal + "\n[ssh2]\n", "ssh2", 7},
		{"wrong type", strings.Replace(minimal, `"git"`, "7", 1), "ssh.user", 5},
		{"another version", strings.Replace(minimal, "= 1", "= 9", 1), "unicrux", 0},
		{"a name with a path", strings.Replace(minimal, `"forge"`, `"a/b"`, 1), "name", 0},
		{"a host that is an option", strings.Replace(minimal, "forge.tide", "-forge.tide", 1), "ssh.host", 0},
		{"a login with a line end", strings.Replace(minimal, `"git"`, `"git\nx"`, 1), "ssh.user", 0},
		{"a title that steers the terminal", "title = \"\\u001b[31m\"\n" + minimal, "title", 0},
		{"a page that is none", minimal + "[interface]\nkeys = \"javascript:x\"\n", "interface.keys", 0},
		{"port", minimal + "port = 70000\n", "ssh.port", 0},
		{"address", minimal + "address = \"here\"\n", "ssh.address", 0},
		{"host key", minimal + "host-keys = [\"ssh-rsa x\"]\n", "ssh.host-keys[0]", 0},
		{"greeting without a group", minimal + "greeting = \"hello\"\n", "ssh.greeting", 0},
		{"plain http", minimal + "[interface]\nurl = \"http://forge/\"\n", "interface.url", 0},
		{"a password in the address", minimal + "[interface]\nurl = \"https://a:b@forge/\"\n", "interface.url", 0},
		{"no certificates", minimal + "[interface]\nurl = \"https://forge/\"\nauthority = \"x\"\n", "interface.authority", 0},
		{"header without token", minimal + "[interface]\nurl = \"https://forge/\"\nheader = \"A: b\"\n", "interface.header", 0},
		{"operation without interface", minimal + "[operations.who]\nmethod = \"GET\"\n", "interface.url", 0},
		{"method", minimal + "[interface]\nurl = \"https://forge/\"\n[operations.who]\nmethod = \"LOOK\"\n", "operations.who.method", 0},
		{"path elsewhere", minimal + "[interface]\nurl = \"https://forge/\"\n[operations.who]\nmethod = \"GET\"\npath = \"/x\"\n", "operations.who.path", 0},
		{"field missing", minimal + "[interface]\nurl = \"https://forge/\"\n[operations.who]\nmethod = \"GET\"\npath = \"x\"\n", "operations.who.fields.account", 0},
		{"refusal", minimal + "[[refusals]]\ntext = \"(\"\nmeans = \"x\"\n", "refusals[0]", 0},
		{"too large", minimal + strings.Repeat("#", MaxBytes), "", 0},
	} {
		_, err := Parse([]byte(row.text))
		var wrong *DescriptionError
		if !errors.As(err, &wrong) || wrong.Place != row.place || wrong.Line != row.line {
			t.Errorf("%s: %v (%+v), want %q in line %d", row.name, err, wrong, row.place, row.line)
		}
	}
}

// described is a client for a test server that does as answer says.
func described(t *testing.T, answer http.HandlerFunc) *Client {
	t.Helper()
	server := httptest.NewTLSServer(answer)
	t.Cleanup(server.Close)
	authority := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: server.Certificate().Raw})
	text := minimal + fmt.Sprintf("[interface]\nurl = %q\nheader = \"X-Pass: {token}\"\nauthority = \"\"\"%s\"\"\"\n", server.URL+"/base/", authority) + `
[operations.who]
method = "GET"
path = "me"
fields = { account = "$.account.name" }
[operations.list-keys]
method = "GET"
path = "keys"
items = "$.list"
fields = { id = "$.id", title = "$.title", line = "$.line" }
[operations.add-key]
method = "POST"
path = "keys"
body = { title = "{title}", line = "{line}" }
fields = { id = "$.id" }
[operations.remove-key]
method = "DELETE"
path = "keys/{id}"
`
	d, err := Parse([]byte(text))
	if err != nil {
		t.Fatal(err)
	}
	return &Client{Description: d, Token: secret.New([]byte("token-of-ines"))}
}

func publicKey(t *testing.T) ssh.PublicKey {
	t.Helper()
	key, err := ssh.NewPublicKey(ed25519.NewKeyFromSeed(bytes.Repeat([]byte{7}, ed25519.SeedSize)).Public())
	if err != nil {
		t.Fatal(err)
	}
	return key
}

func TestOperations(t *testing.T) {
	key := publicKey(t)
	line := strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key)))
	var asked []string
	client := described(t, func(w http.ResponseWriter, r *http.Request) {
		var body bytes.Buffer
		_, _ = body.ReadFrom(r.Body)
		asked = append(asked, r.Method+" "+r.URL.EscapedPath()+" "+r.Header.Get("X-Pass")+" "+body.String())
		switch r.Method + r.URL.Path {
		case "GET/base/me":
			_, _ = fmt.Fprint(w, `{"account":{"name":"ines.marlow"}}`)
		case "GET/base/keys":
			_, _ = fmt.Fprintf(w, `{"list":[{"id":7,"title":"a","line":%q},{"id":8,"line":"old stuff"}]}`, line)
		case "POST/base/keys":
			_, _ = fmt.Fprint(w, `{"id":9007199254740991}`)
		}
	})
	ctx := context.Background()
	if who, err := client.Who(ctx); who != "ines.marlow" || err != nil {
		t.Errorf("Who: %q, %v", who, err)
	}
	if keys, err := client.Keys(ctx); err != nil || len(keys) != 1 || keys[0].ID != "7" {
		t.Errorf("Keys: %+v, %v", keys, err)
	}
	if id, err := client.AddKey(ctx, KeyRequest{Title: "a \"title\"", Key: key}); id != "9007199254740991" || err != nil {
		t.Errorf("AddKey: %q, %v", id, err)
	}
	if err := client.RemoveKey(ctx, "../../7"); err != nil {
		t.Errorf("RemoveKey: %v", err)
	}
	if want := "DELETE /base/keys/..%2F..%2F7 token-of-ines "; asked[3] != want {
		t.Errorf("asked %q, want %q", asked[3], want)
	}
	if want := `POST /base/keys token-of-ines {"line":"` + line + `","title":"a \"title\""}`; asked[2] != want {
		t.Errorf("asked %q, want %q", asked[2], want)
	}
	if _, err := client.HostKeys(ctx); !errors.Is(err, ErrNoOperation) {
		t.Errorf("an operation that is not described: %v", err)
	}
}

func TestAnswersThatAreNot(t *testing.T) {
	for _, row := range []struct {
		name   string
		answer http.HandlerFunc
		want   error
	}{
		{"no JSON", func(w http.ResponseWriter, _ *http.Request) { _, _ = fmt.Fprint(w, "<html>") }, ErrAnswer},
		{"nothing there", func(w http.ResponseWriter, _ *http.Request) { _, _ = fmt.Fprint(w, `{"account":[]}`) }, ErrAnswer},
		{"redirect", func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, "https://elsewhere.example/", http.StatusFound)
		}, ErrRedirect},
		{"without end", func(w http.ResponseWriter, _ *http.Request) {
			_, _ = w.Write(bytes.Repeat([]byte("["), maxAnswer+1))
		}, ErrAnswer},
		{"deeply nested", func(w http.ResponseWriter, _ *http.Request) {
			_, _ = w.Write(bytes.Repeat([]byte("["), 100_000))
		}, ErrAnswer},
	} {
		if _, err := described(t, row.answer).Who(context.Background()); !errors.Is(err, row.want) {
			t.Errorf("%s: %v, want %v", row.name, err, row.want)
		}
	}
}

func TestRefusalKeepsTheHostsWords(t *testing.T) {
	client := described(t, func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(http.StatusForbidden)
		_, _ = fmt.Fprintf(w, `{"title":"no","detail":%q}`, strings.Repeat("x", 9000))
	})
	_, err := client.Who(context.Background())
	var refusal *Refusal
	if !errors.As(err, &refusal) || refusal.Status != 403 || refusal.Title != "no" || len(refusal.Detail) != maxDetail {
		t.Errorf("%v", err)
	}
}

func TestAuthorityIsTheDescriptionsOwn(t *testing.T) {
	client := described(t, func(http.ResponseWriter, *http.Request) { t.Error("the request went through") })
	client.Description.Interface.Authority = ""
	_, err := client.Who(context.Background())
	if !errors.Is(err, ErrAuthority) {
		t.Errorf("%v, want ErrAuthority", err)
	}
	if strings.Contains(fmt.Sprintf("%+v %v", client, err), "token-of-ines") {
		t.Error("the token got out")
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(minimal))
	f.Fuzz(func(t *testing.T, text []byte) {
		d, err := Parse(text)
		if err != nil {
			var wrong *DescriptionError
			if !errors.As(err, &wrong) {
				t.Fatalf("%q: %T", text, err)
			}
			return
		}
		if strings.ContainsAny(d.Name+d.SSH.Host+d.SSH.User, "\n\r /\\\"") || d.SSH.Host[0] == '-' {
			t.Fatalf("%q lets %+v through", text, d)
		}
		d.Account("hello")
		d.Meaning("no")
	})
}

func TestForms(t *testing.T) {
	for _, row := range []struct {
		text              string
		name, host, login bool
	}{
		{"forge", true, true, true}, {"Forge", false, true, true}, {"forge.tidewater.example", false, true, true},
		{"-forge", false, false, false}, {"forge-", true, false, true}, {"a b", false, false, false}, {"a\nb", false, false, false},
		{"a/b", false, false, false}, {"_x", false, false, true}, {"", false, false, false}, {"127.0.0.1", false, true, true},
		{strings.Repeat("a", 32), false, true, true}, {strings.Repeat("a", 254), false, false, false}, {"a\"b", false, false, false}, {"aéb", false, false, false},
	} {
		if isName(row.text) != row.name || isHost(row.text) != row.host || isLogin(row.text) != row.login {
			t.Errorf("%q: name %v, host %v, login %v", row.text, isName(row.text), isHost(row.text), isLogin(row.text))
		}
	}
}

func FuzzFollow(f *testing.F) {
	f.Add(`{"a":{"b":[1,"x"]}}`, "$.a.b")
	f.Add(`[]`, "$")
	f.Fuzz(func(t *testing.T, text, path string) {
		var value any
		if json.Unmarshal([]byte(text), &value) == nil {
			asText(follow(value, path))
		}
		if names, err := parsePath(path); err == nil && "$"+strings.Join(append([]string{""}, names...), ".") != path {
			t.Fatalf("%q reads %q", path, names)
		}
	})
}
