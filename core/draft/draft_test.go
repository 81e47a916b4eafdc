package draft

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"anchorage.example/unicrux/core/describe"
)

// truth says for each document which of its requests each operation of ours is; what is not there the document lacks.
var truth = map[string]map[string]string{
	"reef.json": {"who": "GET /user", "host-keys": "GET /meta", "list-keys": "GET /user/keys",
		"add-key":    "POST /user/keys",
		"remove-key": "DELETE /user/keys/{key_id}", "list-repo-keys": "GET /repos/{owner}/{repo}/keys",
		"add-repo-key":       "POST /repos/{owner}/{repo}/keys",
		"remove-repo-key":    "DELETE /repos/{owner}/{repo}/keys/{key_id}",
		"list-signing-keys":  "GET /user/ssh_signing_keys",
		"add-signing-key":    "POST /user/ssh_signing_keys",
		"remove-signing-key": "DELETE /user/ssh_signing_keys/{ssh_signing_key_id}", "list-repos": "GET /user/repos",
		"show-repo": "GET /repos/{owner}/{repo}", "add-repo": "POST /user/repos"},
	"quay.yaml": {"who": "GET /user", "list-keys": "GET /user/keys", "add-key": "POST /user/keys",
		"remove-key": "DELETE /user/keys/{key_id}", "list-repo-keys": "GET /projects/{id}/deploy_keys",
		"add-repo-key":    "POST /projects/{id}/deploy_keys",
		"remove-repo-key": "DELETE /projects/{id}/deploy_keys/{key_id}",
		"issue-token":     "POST /user/personal_access_tokens", "list-tokens": "GET /personal_access_tokens",
		"show-token":   "GET /personal_access_tokens/self",
		"renew-token":  "POST /personal_access_tokens/{id}/rotate",
		"revoke-token": "DELETE /personal_access_tokens/{id}",
		"list-repos":   "GET /projects", "show-repo": "GET /projects/{id}", "add-repo": "POST /projects"},
	"slip.json": {"who": "GET /user", "list-keys": "GET /user/keys", "add-key": "POST /user/keys",
		"remove-key": "DELETE /user/keys/{id}", "list-repo-keys": "GET /repos/{owner}/{repo}/keys",
		"add-repo-key": "POST /repos/{owner}/{repo}/keys", "remove-repo-key": "DELETE /repos/{owner}/{repo}/keys/{id}",
		"issue-token": "POST /users/{username}/tokens", "list-tokens": "GET /users/{username}/tokens",
		"revoke-token": "DELETE /users/{username}/tokens/{token}", "list-repos": "GET /user/repos",
		"show-repo": "GET /repos/{owner}/{repo}", "add-repo": "POST /user/repos"},
	"buoy.json": {"who": "GET /me", "host-keys": "GET /host-keys", "list-keys": "GET /me/ssh-keys",
		"add-key": "POST /me/ssh-keys", "remove-key": "DELETE /me/ssh-keys/{keyId}",
		"list-repo-keys":  "GET /repositories/{workspace}/{slug}/access-keys",
		"add-repo-key":    "POST /repositories/{workspace}/{slug}/access-keys",
		"remove-repo-key": "DELETE /repositories/{workspace}/{slug}/access-keys/{keyId}",
		"list-repos":      "GET /workspaces/{workspace}/repositories",
		"show-repo":       "GET /repositories/{workspace}/{slug}",
		"add-repo":        "POST /workspaces/{workspace}/repositories"},
	"weir.yaml": {"who": "GET /user", "list-keys": "GET /users/{selected_user}/ssh-keys",
		"add-key":         "POST /users/{selected_user}/ssh-keys",
		"remove-key":      "DELETE /users/{selected_user}/ssh-keys/{key_id}",
		"list-repo-keys":  "GET /repositories/{workspace}/{repo_slug}/deploy-keys",
		"add-repo-key":    "POST /repositories/{workspace}/{repo_slug}/deploy-keys",
		"remove-repo-key": "DELETE /repositories/{workspace}/{repo_slug}/deploy-keys/{key_id}",
		"list-repos":      "GET /repositories/{workspace}", "show-repo": "GET /repositories/{workspace}/{repo_slug}",
		"add-repo": "POST /repositories/{workspace}/{repo_slug}"},
	"mole.json": {"who": "GET /account", "list-keys": "GET /account/keys", "add-key": "POST /account/keys",
		"remove-key": "DELETE /account/keys/{number}", "issue-token": "POST /account/tokens",
		"list-tokens": "GET /account/tokens", "revoke-token": "DELETE /account/tokens/{id}",
		"list-repos": "GET /account/repositories", "show-repo": "GET /repositories/{owner}/{name}"},
}

func sample(t testing.TB, name string) []byte {
	t.Helper()
	text, err := os.ReadFile(filepath.Join("testdata", name))
	if err != nil {
		t.Fatal(err)
	}
	return text
}

// compare counts what a draft found, missed and took for something else.
func compare(r *Result, want map[string]string) (right, missed int, wrong []string) {
	got := map[string]string{}
	for _, f := range r.Found {
		if !f.Doubted {
			got[f.Does] = f.Request
		}
	}
	for _, w := range wants {
		switch is, should := got[w.does], want[w.does]; {
		case is == should && is != "":
			right++
		case is != "" && is != should:
			wrong = append(wrong, fmt.Sprintf("%s is %s, and should be %q", w.does, is, should))
		case should != "":
			missed++
		}
	}
	return right, missed, wrong
}

// TestDrafts: of each document the right requests are found, none is taken for another, and what is written is a
// description. "make drafts" prints the table.
func TestDrafts(t *testing.T) {
	t.Parallel()
	t.Logf("%-10s %6s %6s %6s", "document", "found", "missed", "wrong")
	for _, name := range slices.Sorted(func(yield func(string) bool) {
		for name := range truth {
			if !yield(name) {
				return
			}
		}
	}) {
		r, err := Of(sample(t, name), Options{From: name})
		if err != nil {
			t.Errorf("%s: %v\n%s", name, err, r.Text)
			continue
		}
		right, missed, wrong := compare(r, truth[name])
		t.Logf("%-10s %6d %6d %6d", name, right, missed, len(wrong))
		if missed > 0 || len(wrong) > 0 {
			t.Errorf("%s: %d missed, wrong: %s\n%s", name, missed, wrong, r.Text)
		}
		if _, err := describe.Parse([]byte(r.Text)); err != nil {
			t.Errorf("%s: %v", name, err)
		}
		for line := range strings.Lines(r.Text) {
			if strings.HasPrefix(line, "[operations") && !strings.Contains(r.Text, "% sure\n") {
				t.Errorf("%s: nothing says how sure it is", name)
			}
		}
	}
}

// TestLines: what else of a description is drafted of what a document says.
func TestLines(t *testing.T) {
	t.Parallel()
	for name, lines := range map[string][]string{
		"reef.json": {`host = "reef.tidewater.example"`, `header = "Authorization: Bearer {token}"`,
			`paging = { by = "link" }`,
			`items = "$.ssh_keys[*]"`, `words = { access = { read = true, write = false } }`},
		"quay.yaml": {`header = "X-Quay-Token: {token}"`, `dates = "day"`, `value = "$.id"`, `repos = ["api"]`,
			`path = "projects/{project}/deploy_keys?page={page}"`, `push = ["write_repository"]`},
		"slip.json": {`header = "Authorization: token {token}"`, `second-step = "X-Slip-OTP: {code}"`,
			`sign-in = "password"`,
			`keys = ["write:user"]`, `path = "users/{account}/tokens/{id}"`},
		"buoy.json": {`paging = { by = "cursor", at = "$.meta.nextCursor" }`, `items = "$.data.items[*]"`,
			`open = true`,
			`ask = "$.title"`, `keys = ["sshkeys:write"]`},
		"weir.yaml": {`paging = { by = "next", at = "$.next" }`, `url = "https://api.weir.tidewater.example/2.0/"`,
			`errors = ["$.error.message"]`, `path = "users/{account}/ssh-keys/{id}"`},
		"mole.json": {`query = "access_token"`, `form = { algorithm = "{kind}", blob = "{blob}"`, `"{scopes_commas}"`,
			`line = ["$.algorithm", "$.blob"]`, `paging = { by = "offset" }`, `lifetime_days = "{days}"`},
	} {
		r, err := Of(sample(t, name), Options{})
		if err != nil {
			t.Fatal(err)
		}
		for _, line := range lines {
			if !strings.Contains(r.Text, line) {
				t.Errorf("%s: no %s in\n%s", name, line, r.Text)
			}
		}
	}
}

// TestDoubts: what is alike and something else is left out, and what is doubted is a comment.
func TestDoubts(t *testing.T) {
	t.Parallel()
	const head = `{"openapi":"3.0.0","info":{"title":"x"},"servers":[{"url":"https://reef.tidewater.example/"}],"paths":{`
	key := `{"type":"object","properties":{"id":{"type":"integer"},"key":{"type":"string"},"title":{"type":"string"}}}`
	list := func(path, extra string) string {
		return fmt.Sprintf(
			`"%s":{"get":{%s"responses":{"200":{"content":{"application/json":{"schema":{"type":"array","items":%s}}}}}}}`,
			path,
			extra,
			key,
		)
	}
	for _, row := range []struct {
		name, paths, does string
		found, doubted    bool
	}{
		{"the account's", list("/user/keys", ""), "list-keys", true, false},
		{"in the account's path",
			list("/users/{username}/keys",
				`"parameters":[{"name":"username","in":"path","schema":{"type":"string"}}],`),
			"list-keys", true, false},
		{"an organisation's", list("/orgs/{org}/keys", ""), "list-keys", false, false},
		{"for encryption", list("/user/gpg_keys", ""), "list-keys", false, false},
		{"an administrator's", list("/admin/users/{username}/keys", ""), "list-keys", false, false},
		{"of a repository's secrets", list("/repos/{owner}/{repo}/secrets/keys", ""), "list-repo-keys", false, false},
		{"a stranger in the path", list("/user/harbour/quay/keys", ""), "list-keys", true, true},
		{"old, and something is required", list("/user/keys",
			`"deprecated":true,"parameters":[{"name":"tide","in":"query","required":true,"schema":{"type":"string"}}],`),
			"list-keys", true, false},
	} {
		r, err := Of([]byte(head+row.paths+"}}"), Options{})
		if err != nil {
			t.Errorf("%s: %v", row.name, err)
			continue
		}
		i := slices.IndexFunc(r.Found, func(f Found) bool { return f.Does == row.does })
		if (i >= 0) != row.found || i >= 0 && r.Found[i].Doubted != row.doubted {
			t.Errorf("%s: %+v\n%s", row.name, r.Found, r.Text)
		}
		if row.doubted != strings.Contains(r.Text, "# [operations."+row.does+"]") {
			t.Errorf("%s: in the text\n%s", row.name, r.Text)
		}
	}
}

// TestNoDocument: what is none is said to be none, and where nothing says where the API is, neither.
func TestNoDocument(t *testing.T) {
	t.Parallel()
	for _, row := range []struct {
		text, from, host string
		want             error
	}{
		{"", "", "", ErrDocument}, {"{", "", "", ErrDocument}, {"a: [", "", "", ErrDocument},
		{`{"openapi":"2.0"}`, "", "", ErrDocument}, {"<html>", "", "", ErrDocument},
		{`{"openapi":"3.0.0"} x`, "", "", ErrDocument},
		{`{"openapi":"3.0.0","paths":{}}`, "", "", ErrNowhere},
		{`{"swagger":"2.0","basePath":"/api","paths":{}}`, "", "", ErrNowhere},
		{`{"swagger":"2.0","basePath":"/api","paths":{}}`, "", "reef.tidewater.example", nil},
		{`{"openapi":"3.0.0","servers":[{"url":"/api"}]}`, "https://reef.tidewater.example/openapi.json", "", nil},
	} {
		r, err := Of([]byte(row.text), Options{From: row.from, Host: row.host})
		if !errors.Is(err, row.want) || row.want == nil &&
			!strings.Contains(r.Text, `url = "https://reef.tidewater.example/api/"`) {
			t.Errorf("%q: %v, %+v", row.text, err, r)
		}
	}
}

// TestLarge: a document of several megabytes is drafted as its small core is, whatever else is in it.
func TestLarge(t *testing.T) {
	t.Parallel()
	var root map[string]any
	if err := json.Unmarshal(sample(t, "reef.json"), &root); err != nil {
		t.Fatal(err)
	}
	paths := root["paths"].(map[string]any)
	schemas := root["components"].(map[string]any)["schemas"].(map[string]any)
	for i := range 4000 { // schemas that refer to each other, in circles too
		fields := map[string]any{"id": map[string]any{"type": "integer"}}
		for n := range 12 {
			fields[fmt.Sprintf("part%d", n)] = map[string]any{"$ref": fmt.Sprintf("#/components/schemas/Many%d",
				(i*7+n)%4000)}
		}
		schemas[fmt.Sprintf("Many%d", i)] = map[string]any{"type": "object", "properties": fields}
		paths[fmt.Sprintf("/tides/%d/levels/{id}", i)] = map[string]any{"get": map[string]any{
			"responses": map[string]any{
				"200": map[string]any{"content": map[string]any{"application/json": map[string]any{
					"schema": map[string]any{"$ref": fmt.Sprintf("#/components/schemas/Many%d", i)}}}},
			}}}
	}
	text, err := json.Marshal(root)
	if err != nil || len(text) < 2<<20 {
		t.Fatalf("%d bytes, %v", len(text), err)
	}
	r, err := Of(text, Options{})
	if err != nil {
		t.Fatal(err)
	}
	if _, missed, wrong := compare(r, truth["reef.json"]); missed > 0 || len(wrong) > 0 {
		t.Errorf("%d missed, wrong %s", missed, wrong)
	}
}

// FuzzOf: whatever the document says, the draft is a description, or there is an error.
func FuzzOf(f *testing.F) {
	for name := range truth {
		f.Add(sample(f, name))
	}
	f.Fuzz(func(t *testing.T, text []byte) {
		r, err := Of(text, Options{Name: "reef", Host: "reef.tidewater.example"})
		if err != nil {
			return
		}
		if _, err := describe.Parse([]byte(r.Text)); err != nil {
			t.Errorf("%v\n%s", err, r.Text)
		}
	})
}
