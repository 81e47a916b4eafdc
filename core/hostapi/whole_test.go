package hostapi

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"testing"

	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/sshkey"
)

const wholeKeys = asHeader + `
[operations.list-keys]
path = "keys"
items = "$.keys[*]"
fields = { id = "$.name", line = "$.key", title = "$.name" }
[operations.add-key]
method = "PUT"
path = "keys"
whole = "list-keys"
entry = { name = "{title}", key = "{line}" }
body = { keys = "{entries}" }
[operations.remove-key]
method = "PUT"
path = "keys"
whole = "list-keys"
body = { keys = "{entries}" }
`

// TestWholeLists: at a host whose list of keys is replaced as a whole, the others stay as they were, to the digit, and
// what somebody else put in meanwhile is not lost.
func TestWholeLists(t *testing.T) {
	t.Parallel()
	const other = `{"key":"ssh-rsa AAAA","made":9007199254740993,"name":"desk"}`
	const late = `{"key":"x","name":"late"}`
	list, version, conflicts := []string{other}, 1, 1
	client := speaking(t, wholeKeys, func(w http.ResponseWriter, r *http.Request) {
		tag := fmt.Sprintf(`"v%d"`, version)
		if r.Method == http.MethodGet {
			w.Header().Set("ETag", tag)
			_, _ = fmt.Fprintf(w, `{"keys":[%s]}`, strings.Join(list, ","))
			return
		}
		if conflicts > 0 { // somebody else was faster
			list, version, conflicts = append(list, late), version+1, conflicts-1
		}
		if r.Header.Get("If-Match") != fmt.Sprintf(`"v%d"`, version) {
			w.WriteHeader(http.StatusPreconditionFailed)
			return
		}
		var sent struct{ Keys []json.RawMessage }
		text, _ := io.ReadAll(r.Body)
		if err := json.Unmarshal(text, &sent); err != nil || sent.Keys == nil {
			t.Errorf("sent %s", text)
		}
		list, version = nil, version+1
		for _, key := range sent.Keys {
			list = append(list, string(key))
		}
	})
	key := publicKey(t)
	ours := fmt.Sprintf(`{"key":%q,"name":"ours"}`, sshkey.Line(key, ""))
	if _, err := client.AddKey(t.Context(), KeyRequest{Key: key, Title: "ours"}); err != nil ||
		!slices.Equal(list, []string{other, late, ours}) {
		t.Errorf("added: %v\n%s", err, list)
	}
	if err := client.RemoveKey(t.Context(), RegisteredKey{Key: key}, KeyList{}); err != nil ||
		!slices.Equal(list, []string{other, late}) {
		t.Errorf("removed: %v\n%s", err, list)
	}
	conflicts = 2
	var refusal *Refusal
	if err := client.RemoveKey(t.Context(), RegisteredKey{ID: "late"}, KeyList{}); !errors.As(err, &refusal) {
		t.Errorf("changed each time: %v", err)
	}
	list, conflicts = []string{other}, 0
	if err := client.RemoveKey(t.Context(), RegisteredKey{ID: "desk"}, KeyList{}); err != nil || len(list) != 0 {
		t.Errorf("the last one: %v, %s", err, list)
	}
}

// TestSeveralAreAskedAbout: where an account has several workspaces, a person chooses; what was chosen holds.
func TestSeveralAreAskedAbout(t *testing.T) {
	t.Parallel()
	const operations = asHeader + `
[lookups.workspace]
path = "spaces"
value = "$.id"
ask = "$.title"
[operations.list-repos]
path = "spaces/{workspace}/repos"
fields = { path = "$.path" }
`
	labels := []string{"Tide desk", "Buoys"}
	two := `[{"id":17,"title":"Tide desk"},{"id":18,"title":"Buoys"}]`
	for _, row := range []struct {
		name, spaces, chosen string
		choose               int // -1 where nobody is there
		want                 string
		err                  error
	}{
		{"asked", two, "", 1, "/base/spaces/18/repos", nil},
		{"nobody there", two, "", -1, "", ErrChoose},
		{"chosen by name", two, "Buoys", -1, "/base/spaces/18/repos", nil},
		{"chosen by number", two, "17", -1, "/base/spaces/17/repos", nil},
		{"chosen and gone", two, "Reef", 0, "", ErrChoose},
		{"only one", `[{"id":17,"title":"Tide desk"}]`, "", -1, "/base/spaces/17/repos", nil},
		{"none", "[]", "", 0, "", ErrNotFound},
	} {
		asked := ""
		client := speaking(t, operations, func(w http.ResponseWriter, r *http.Request) {
			if r.URL.Path == "/base/spaces" {
				_, _ = io.WriteString(w, row.spaces)
				return
			}
			asked = r.URL.Path
			_, _ = io.WriteString(w, "[]")
		})
		if row.chosen != "" {
			client.Description.Chosen = map[string]string{"workspace": row.chosen}
		}
		if row.choose >= 0 {
			client.Choose = func(_ *describe.Description, name string, choices []Choice) (int, error) {
				if name != "workspace" || choices[row.choose].Label != labels[row.choose] {
					t.Errorf("%s: asked about %s, %v", row.name, name, choices)
				}
				return row.choose, nil
			}
		}
		err := client.Repos(t.Context(), "", func(Repo) bool { return true })
		if !errors.Is(err, row.err) || asked != row.want {
			t.Errorf("%s: %q, %v", row.name, asked, err)
		}
	}
}
