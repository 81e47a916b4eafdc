package tokens_test

import (
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/hostapi"
	"anchorage.example/unicrux/core/secret"
	"anchorage.example/unicrux/core/tokens"
	"anchorage.example/unicrux/fixture"
)

// An issuer is a host that issues tokens for the account's password, as they are wherever a token may do only what it
// was made for.
type issuer struct {
	labels  []string // of the tokens that are there
	who     int      // status of "who"
	listing bool     // it lists tokens
	revokes bool     // it can be told to forget one
	asked   int      // for a token
}

func (h *issuer) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	user, password, _ := r.BasicAuth()
	signedIn := user == "ines" && password == "a-password"
	switch r.Method + " " + r.URL.Path {
	case "GET /me":
		if h.who != http.StatusOK {
			w.WriteHeader(h.who)
			return
		}
		_, _ = fmt.Fprint(w, `{"person":"ines"}`)
	case "GET /people/ines/passes":
		if !signedIn {
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		var list []string
		for i, label := range h.labels {
			list = append(list, fmt.Sprintf(`{"number":%d,"note":%q}`, i, label))
		}
		_, _ = fmt.Fprintf(w, "[%s]", strings.Join(list, ","))
	case "POST /people/ines/passes":
		h.asked++
		var sent struct{ Note string }
		_ = json.NewDecoder(r.Body).Decode(&sent)
		for _, label := range h.labels {
			if label == sent.Note {
				w.WriteHeader(http.StatusBadRequest)
				_, _ = fmt.Fprint(w, `{"message":"this note is taken: another one has the same name"}`)
				return
			}
		}
		h.labels = append(h.labels, sent.Note)
		_, _ = fmt.Fprintf(w, `{"number":%d,"text":"token-%d"}`, len(h.labels)-1, len(h.labels))
	default:
		if r.Method != http.MethodDelete || !h.revokes || !signedIn {
			w.WriteHeader(http.StatusInternalServerError)
			return
		}
		h.labels = h.labels[:len(h.labels)-1]
		w.WriteHeader(http.StatusNoContent)
	}
}

// describes is a description of such a host.
func (h *issuer) describes(t *testing.T) *describe.Description {
	t.Helper()
	server := httptest.NewTLSServer(h)
	t.Cleanup(server.Close)
	text := fmt.Sprintf(
		"unicrux = 1\nname = \"slip\"\n[https]\nurl = \"%s/\"\nusername = \"{account}\"\n[purposes]\npush = [\"write\"]\n"+
			"[interface]\nurl = \"%s/\"\nheader = \"Pass: {token}\"\nauthority = \"\"\"%s\"\"\"\n"+
			"[interface.password]\nbasic = \"{account}:{password}\"\n[operations]\n"+
			"who = { path = \"me\", fields = { account = \"$.person\" } }\n"+
			"issue-token = { method = \"POST\", path = \"people/{account}/passes\", sign-in = \"password\", body = { note = \"{label}\", scopes = \"{scopes}\" }, fields = { token = \"$.text\", id = \"$.number\" } }\n"+
			"revoke-token = { method = \"DELETE\", path = \"people/{account}/passes/{id}\", sign-in = \"password\" }\n",
		server.URL,
		server.URL,
		pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: server.Certificate().Raw}),
	)
	if h.listing {
		text += "list-tokens = { path = \"people/{account}/passes\", sign-in = \"password\", fields = { id = \"$.number\", label = \"$.note\" } }\n"
	}
	d, err := describe.Parse([]byte(text))
	if err != nil {
		t.Fatal(err)
	}
	return d
}

// TestIssue: a token that a host has issued is kept or given back, and never lost; its label is one that no other has.
func TestIssue(t *testing.T) {
	t.Parallel()
	const label = "unicrux on driftwood, push, today"
	for _, row := range []struct {
		name  string
		host  issuer
		chest bool   // it is open
		label string // of the token that is kept; empty for none
		left  bool   // it is at the host, and nobody has it
		there int    // tokens at the host afterwards
		asked int
	}{
		{"plain", issuer{who: 200, revokes: true}, true, label, false, 1, 1},
		{"it may not ask whose it is", issuer{who: 403, revokes: true}, true, label, false, 1, 1},
		{"the host fails when it is asked", issuer{who: 500, revokes: true}, true, label, false, 1, 1},
		{"it does not work", issuer{who: 401, revokes: true}, true, "", false, 0, 1},
		{"it does not work, and cannot be revoked", issuer{who: 401}, true, "", true, 1, 1},
		{"the chest is closed", issuer{who: 200, revokes: true}, false, "", false, 0, 1},
		{"the label is taken", issuer{who: 200, revokes: true, labels: []string{label}}, true,
			label + " 2", false, 2, 2},
		{"the host lists which are", issuer{who: 200, revokes: true, listing: true,
			labels: []string{label, label + " 2"}}, true, label + " 3", false, 3, 1},
	} {
		t.Run(row.name, func(t *testing.T) {
			t.Parallel()
			s := fixture.At(t, "forge")
			if row.chest {
				s.OpenChest()
			}
			host := row.host
			d := host.describes(t)
			s.SignIn = func(c *hostapi.Client) error {
				c.Account, c.Password = "ines", secret.New([]byte("a-password"))
				return nil
			}
			e, _, err := tokens.Issue(t.Context(), s.Site, s.Batch(), s.Client(d, d.Bind(secret.Text{})),
				hostapi.TokenRequest{Label: label, Purposes: []string{"push"}})
			var left *tokens.LeftError
			if (err == nil) != (row.label != "") || errors.As(err, &left) != row.left {
				t.Errorf("%v", err)
			}
			if row.left && !strings.Contains(err.Error(), label) {
				t.Errorf("it is not named: %v", err)
			}
			if e.Label != row.label && row.label != "" || len(host.labels) != row.there || host.asked != row.asked {
				t.Errorf("kept %+v; at the host %q, asked %d times", e, host.labels, host.asked)
			}
			if list, _ := tokens.Chest(s.Site).List(); row.label != "" &&
				(len(list) != 1 || list[0].Account != "ines") {
				t.Errorf("in the chest: %+v", list)
			}
		})
	}
}
