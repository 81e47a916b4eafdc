package localcheck_test

import (
	"encoding/pem"
	"fmt"
	"net/http"
	"net/http/httptest"
	"testing"

	"anchorage.example/unicrux/core/causes"
	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/diagnose/finding"
	"anchorage.example/unicrux/core/diagnose/localcheck"
	"anchorage.example/unicrux/core/hostapi"
	"anchorage.example/unicrux/core/secret"
	"anchorage.example/unicrux/fixture"
)

// TestAllowed: where git is let in for pushing, the host's API says whether the account may; where it does not, nothing
// is said.
func TestAllowed(t *testing.T) {
	t.Parallel()
	answer, status, asked := "", 200, 0
	server := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked++
		w.WriteHeader(status)
		_, _ = fmt.Fprint(w, answer)
	}))
	t.Cleanup(server.Close)
	d, err := describe.Parse(
		fmt.Appendf(nil, "unicrux = 1\nname = \"reef\"\n[https]\nurl = \"%s/\"\n[interface]\nurl = \"%s/\"\n"+
			"header = \"X: {token}\"\nauthority = \"\"\"%s\"\"\"\n[operations.show-repo]\npath = \"repos/{+repo}\"\n"+
			"fields = { path = \"$.p\", access = \"$.push\", frozen = \"$.old\" }\n"+
			"words = { access = { write = true, read = false }, frozen = { yes = true, no = false } }\n", server.URL, server.URL,
			pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: server.Certificate().Raw})),
	)
	if err != nil {
		t.Fatal(err)
	}
	s := fixture.At(t, "forge")
	client := &hostapi.Client{Description: d, Token: d.Bind(secret.New([]byte("a-token")))}
	for _, row := range []struct {
		name, answer string
		status       int
		purpose      finding.Purpose
		client       *hostapi.Client
		want         causes.Code
		facts        int
		asked        bool
	}{
		{"may write", `{"p":"x","push":true}`, 200, finding.Push, client, causes.Code{}, 1, true},
		{"may read", `{"p":"x","push":false}`, 200, finding.Push, client, causes.ReadOnlyAccount, 0, true},
		{"frozen", `{"p":"x","push":true,"old":true}`, 200, finding.Push, client, causes.RepositoryFrozen, 0, true},
		{"does not say", `{"p":"x"}`, 200, finding.Push, client, causes.Code{}, 0, true},
		{"may not ask", `{}`, 403, finding.Push, client, causes.Code{}, 0, true},
		{"for cloning", `{"p":"x","push":false}`, 200, finding.Clone, client, causes.Code{}, 0, false},
		{"without a token", `{"p":"x","push":false}`, 200, finding.Push, nil, causes.Code{}, 0, false},
	} {
		answer, status, asked = row.answer, row.status, 0
		l := localcheck.Located{Scene: localcheck.Scene{Station: s.Station, Registry: s.Registry}, Host: d,
			Question: finding.Question{Repo: "buoys/drift-model", Purpose: row.purpose}}
		part, crux := localcheck.Allowed(t.Context(), l, row.client)
		got := causes.Code{}
		if crux != nil {
			got = crux.Code
		}
		if got != row.want || len(part.Facts) != row.facts || (asked > 0) != row.asked {
			t.Errorf("%s: %v, %+v, asked %d times", row.name, got, part.Facts, asked)
		}
	}
	l := localcheck.Located{Scene: localcheck.Scene{Station: s.Station, Registry: s.Registry}, Host: s.Description}
	if l.API("") != nil || l.API("ines.marlow") != nil {
		t.Error("a token out of an empty chest")
	}
}
