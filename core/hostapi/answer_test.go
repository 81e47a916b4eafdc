package hostapi

import (
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/secret"
	"anchorage.example/unicrux/core/sshkey"
)

// TestLookups finds a number by a name before something is asked with that number.
func TestLookups(t *testing.T) {
	t.Parallel()
	var asked asking
	client := speaking(t, asHeader+who+`
[lookups.repo_id]
path = "repos{?owner}"
items = "$"
value = "$.id"
match = { "$.path" = "{repo}" }
[operations.add-repo-key]
method = "POST"
path = "users/{account}/repos/{repo_id}/keys"
body = { line = "{line}", repository = "{repo_id}" }
[operations.remove-repo-key]
method = "DELETE"
path = "repos/{repo_id}/keys/{id}"
gone = [404]
`, func(w http.ResponseWriter, r *http.Request) {
		asked.note(r)
		switch {
		case r.URL.Path == "/base/me":
			_, _ = fmt.Fprint(w, `{"account":{"name":"ines/marlow"}}`)
		case r.URL.Path == "/base/repos":
			_, _ = fmt.Fprint(w, `[{"id":1,"path":"buoys/x"},{"id":70,"path":"buoys/drift-model"}]`)
		case r.Method == "DELETE":
			w.WriteHeader(http.StatusNotFound)
		}
	})
	if _, err := client.AddKey(t.Context(),
		KeyRequest{Key: publicKey(t), List: KeyList{Repo: "buoys/drift-model"}}); err != nil {
		t.Fatal(err)
	}
	if err := client.RemoveKey(t.Context(), RegisteredKey{ID: "../7"}, KeyList{Repo: "buoys/drift-model"}); err != nil {
		t.Errorf("what is gone: %v", err)
	}
	line := sshkey.Line(publicKey(t), "")
	want := asking{"GET /base/me token-of-ines", "GET /base/repos?owner=buoys token-of-ines",
		`POST /base/users/ines%2Fmarlow/repos/70/keys token-of-ines {"line":"` + line + `","repository":70}`,
		"DELETE /base/repos/70/keys/..%2F7 token-of-ines"}
	if !slices.Equal(asked, want) {
		t.Errorf("asked\n%s\nwant\n%s", strings.Join(asked, "\n"), strings.Join(want, "\n"))
	}
	if err := client.RemoveKey(t.Context(), RegisteredKey{ID: "7"}, KeyList{Repo: "buoys/nothing"}); !errors.Is(err,
		ErrNotFound) {
		t.Errorf("a repository that is not there: %v", err)
	}
}

// TestTokensAreTold has the forms in which tokens, times and scopes come.
func TestTokensAreTold(t *testing.T) {
	t.Parallel()
	client := speaking(t, "[purposes]\nclone = [\"read\"]\npush = [\"read\", \"write\"]\n[tokens]\nlongest = \"90d\"\n"+`
[operations.issue-token]
method = "POST"
path = "tokens"
body = { name = "{label}", scopes = "{scopes}", days = "{days}" }
fields = { token = "$.secret", id = "$.id", until = "$.ends", scopes = "header Tide-Scopes" }
`, func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		if got := string(body); got != `{"days":30,"name":"laptop","scopes":["read","write"]}` {
			t.Errorf("asked for %s", got)
		}
		w.Header().Set("Tide-Scopes", "read, write")
		_, _ = fmt.Fprint(w, `{"secret":"tide-1","id":7,"ends":"Wed, 31 Mar 2027 12:00:00 GMT"}`)
	})
	now := time.Now()
	request := TokenRequest{Label: "laptop", Purposes: []string{"clone", "push"}, Until: now.AddDate(0, 0, 30)}
	if err := CheckToken(client.Description, "issue-token", request, now); err != nil {
		t.Error(err)
	}
	issued, err := client.IssueToken(t.Context(), request)
	if err != nil || string(issued.Token.Reveal()) != "tide-1" ||
		!slices.Equal(issued.Scopes, []string{"read", "write"}) || issued.Until.Year() != 2027 {
		t.Errorf("%+v, %v", issued, err)
	}
	for _, wrong := range []struct {
		request TokenRequest
		want    error
	}{
		{TokenRequest{Purposes: []string{"packages"}}, ErrPurpose}, {TokenRequest{}, ErrNeedsEnd},
		{TokenRequest{Until: now.AddDate(1, 0, 0)}, ErrTooLong},
	} {
		if err := CheckToken(client.Description, "issue-token", wrong.request, now); !errors.Is(err, wrong.want) {
			t.Errorf("%+v: %v", wrong.request, err)
		}
	}
	for text, want := range map[string]int64{"2027-03-31": 1806451200, "1806451200": 1806451200,
		"1806451200000": 1806451200, "2027-03-31T00:00:00.5Z": 1806451200,
		"2027-03-31 00:00:00 UTC": 1806451200, "2027-03-31T02:00:00+02:00": 1806451200, "never": 0, "": 0, "-5": 0,
		"0": 0, "1e400": 0} {
		if got := asTime(text); (want == 0) != got.IsZero() || want != 0 && got.Unix() != want {
			t.Errorf("%q is read as %v", text, got)
		}
	}
}

// TestPasswordAndSecondStep signs in as hosts want it that issue tokens for a password only.
func TestPasswordAndSecondStep(t *testing.T) {
	t.Parallel()
	client := speaking(t, "[interface.password]\nbasic = \"{account}:{password}\"\nsecond-step = \"X-Step: {code}\"\nasks = \"X-Step: required\"\n"+`
[operations.issue-token]
method = "POST"
path = "tokens"
sign-in = "password"
fields = { token = "$.t" }
`, func(w http.ResponseWriter, r *http.Request) {
		user, word, _ := r.BasicAuth()
		switch {
		case user != "ines" || word != "hush":
			w.WriteHeader(http.StatusUnauthorized)
		case r.Header.Get("X-Step") != "123456":
			w.Header().Set("X-Step", "required; app")
			w.WriteHeader(http.StatusUnauthorized)
		default:
			_, _ = fmt.Fprint(w, `{"t":"tide-1"}`)
		}
	})
	client.Account, client.Password = "ines", secret.New([]byte("hush"))
	if _, err := client.IssueToken(t.Context(), TokenRequest{}); err == nil {
		t.Error("no second step was needed")
	}
	client.Second = func() (secret.Text, error) { return secret.New([]byte("123456")), nil }
	if _, err := client.IssueToken(t.Context(), TokenRequest{}); err != nil {
		t.Error(err)
	}
}

func TestRefusalsInWords(t *testing.T) {
	t.Parallel()
	for _, row := range []struct {
		name, more string
		status     int
		kind, body string
		want       string
	}{
		{"RFC 9457", "", 403, "application/problem+json", `{"title":"no","detail":"not you"}`, "no: not you"},
		{"a message", "", 422, "application/json", `{"message":"bad","errors":[{"message":"title is taken"}]}`,
			"bad: title is taken"},
		{"where the description says", "errors = [\"$.why.text\"]\n", 400, "application/json",
			`{"why":{"text":"because"},"message":"x"}`, "because"},
		{"plain text", "", 400, "text/plain", "no such thing\nat all", "no such thing"},
		{"a page", "", 404, "text/html", "<html>", ""},
		{"an answer that looks like success", "[refused]", 200, "application/json",
			`{"errors":[{"message":"hidden no"}]}`, "hidden no"},
		{"long", "", 400, "application/json", `{"title":"` + strings.Repeat("x", 9000) + `"}`,
			strings.Repeat("x", maxDetail)},
	} {
		operation, more := who, row.more
		if more == "[refused]" {
			operation, more = who+"refused = \"$.errors\"\n", ""
		}
		client := speaking(t, more+operation, func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", row.kind)
			w.WriteHeader(row.status)
			_, _ = fmt.Fprint(w, row.body)
		})
		_, err := client.Who(t.Context())
		var refusal *Refusal
		if !errors.As(err, &refusal) || refusal.Message != row.want || refusal.Status != row.status {
			t.Errorf("%s: %v", row.name, err)
		}
	}
}

// TestRefused: a host that refuses did nothing; one that fails may have done it.
func TestRefused(t *testing.T) {
	t.Parallel()
	for status, nothing := range map[int]bool{400: true, 403: true, 409: true, 429: true, 500: false, 504: false} {
		if got := (&Refusal{Status: status}).Refused(); got != nothing {
			t.Errorf("after HTTP %d nothing happened: %v", status, got)
		}
	}
}

// TestWaiting obeys the host's wish, tells about it, and goes again; a longer one is told.
func TestWaiting(t *testing.T) {
	t.Parallel()
	asked := 0
	client := speaking(t, who, func(w http.ResponseWriter, _ *http.Request) {
		if asked++; asked == 1 {
			w.Header().Set("Retry-After", "1")
			w.WriteHeader(http.StatusTooManyRequests)
			return
		}
		_, _ = fmt.Fprint(w, `{"account":{"name":"ines"}}`)
	})
	var told time.Duration
	client.Waits = func(d time.Duration) { told = d }
	if _, err := client.Who(t.Context()); err != nil || told != time.Second {
		t.Errorf("%v, told %v", err, told)
	}
	busy := speaking(t, "retry-at = \"X-Reset\"\n"+who, func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("X-Reset", fmt.Sprint(time.Now().Add(time.Hour).Unix()))
		w.WriteHeader(http.StatusForbidden)
	})
	if _, err := busy.Who(t.Context()); !errors.Is(err, ErrBusy) {
		t.Errorf("an hour: %v", err)
	}
}

// TestOnlyWhatDoesNoHarmIsSentTwice breaks connections off.
func TestOnlyWhatDoesNoHarmIsSentTwice(t *testing.T) {
	t.Parallel()
	counts := map[string]int{}
	client := speaking(t, who+"[operations.remove-key]\nmethod = \"DELETE\"\npath = \"keys/{id}\"\n",
		func(_ http.ResponseWriter, r *http.Request) {
			counts[r.Method]++
			panic(http.ErrAbortHandler)
		})
	if _, err := client.Who(t.Context()); !errors.Is(err, ErrUnreachable) {
		t.Error(err)
	}
	if err := client.RemoveKey(t.Context(), RegisteredKey{ID: "7"}, KeyList{}); !errors.Is(err, ErrUnreachable) {
		t.Error(err)
	}
	if counts["DELETE"] != 1 || counts["GET"] < 2 {
		t.Errorf("sent %v", counts)
	}
}

func FuzzAnswer(f *testing.F) {
	f.Add(`{"a":{"b":[1,"x",null,true,1.5]}}`, "$.a.b")
	f.Add(`[]`, "$")
	f.Add(`{"a":[{"b":1},{"b":2}]}`, "$.a[?@.b==1]")
	f.Add(`{"a":[{"b":1},{"b":2}]}`, "header X-A")
	f.Fuzz(func(t *testing.T, text, path string) {
		node, err := decode([]byte(text))
		if err != nil {
			return
		}
		for _, found := range describe.Places([]string{path}).Values(node, http.Header{"X-A": {"1"}}) {
			asTime(found)
		}
		_, _ = items(describe.Operation{Items: path}, node)
		said(node, usual)
	})
}

// TestOneRequestForEverything speaks to an interface that has one address and a language of
// its own for questions, as the reference says.
func TestOneRequestForEverything(t *testing.T) {
	t.Parallel()
	client := speaking(t, asHeader+`
[operations.list-keys]
method = "POST"
path = "graph"
body = { query = "query($after: String) { viewer { keys { id } } }", variables = { after = "{cursor}" } }
items = "$.data.viewer.keys.nodes"
paging = { by = "cursor", at = "$.data.viewer.keys.end", more = "$.data.viewer.keys.more" }
refused = "$.errors"
fields = { id = "$.id", line = "$.key" }
`, func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		line := sshkey.Line(publicKey(t), "")
		switch string(body) {
		case `{"query":"query($after: String) { viewer { keys { id } } }"}`:
			_, _ = fmt.Fprintf(w, `{"data":{"viewer":{"keys":{"nodes":[{"id":"a","key":%q}],"end":"c1","more":true}}}}`, line)
		case `{"query":"query($after: String) { viewer { keys { id } } }","variables":{"after":"c1"}}`:
			_, _ = fmt.Fprintf(w, `{"data":{"viewer":{"keys":{"nodes":[{"id":"b","key":%q}],"end":"c2","more":false}}}}`, line)
		default:
			_, _ = fmt.Fprint(w, `{"data":null,"errors":[{"message":"what?"}]}`)
		}
	})
	keys, err := client.Keys(t.Context(), KeyList{})
	if err != nil || len(keys) != 2 || keys[1].ID != "b" {
		t.Errorf("%+v, %v", keys, err)
	}
}
