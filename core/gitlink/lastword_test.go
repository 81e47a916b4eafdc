package gitlink

import (
	"context"
	"errors"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"anchorage.example/unicrux/core/secret"
)

// refs serves a list of refs as files ("Dumb Clients" in gitprotocol-http(5)), to whoever signs in with a password.
func refs(password string, asked *[]string) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, given, _ := r.BasicAuth()
		if r.Header.Get("Authorization") != "" {
			*asked = append(*asked, given)
		}
		switch {
		case given != password:
			w.Header().Set("WWW-Authenticate", `Basic realm="buoys"`)
			http.Error(w, "Say who you are.", http.StatusUnauthorized)
		case strings.HasSuffix(r.URL.Path, "/info/refs"):
			_, _ = w.Write([]byte(strings.Repeat("a", 40) + "\trefs/heads/main\n"))
		default:
			_, _ = w.Write([]byte("ref: refs/heads/main\n"))
		}
	})
}

func TestListRemote(t *testing.T) {
	const password = "kelp-and-eelgrass"
	config, err := ReadConfig(context.Background(), station(t, ""))
	if err != nil {
		t.Fatal(err)
	}
	config.station.Environ = append(config.station.Environ, "GIT_CURL_VERBOSE=1", "GIT_TRACE=1", "GIT_TRACE_REDACT=0")
	sent := Credential{User: "ines", Password: secret.New([]byte(password))}
	var here, there []string
	home := httptest.NewServer(refs(password, &here))
	defer home.Close()
	if err := config.ListRemote(context.Background(), home.URL+"/x.git", sent); err != nil {
		t.Errorf("with the secret: %v", err)
	}
	if len(here) == 0 {
		t.Error("nothing was sent")
	}
	var refused *ListError
	err = config.ListRemote(context.Background(), home.URL+"/x.git",
		Credential{User: "ines", Password: secret.New([]byte("another"))})
	if !errors.As(err, &refused) || !strings.Contains(refused.Said, "Authentication failed") {
		t.Errorf("with another one: %v", err)
	}
	if strings.Contains(refused.Said, "Authorization") || strings.Contains(refused.Said, "run_command") {
		t.Errorf("a trace is no word of git's: %s", refused.Said)
	}
	if err := config.ListRemote(context.Background(), home.URL+"/x.git", Credential{}); !errors.As(err, &refused) {
		t.Errorf("without one: %v", err)
	}

	// Whoever is asked may send git on to somebody else, who then asks for the secret.
	other := httptest.NewServer(refs(password, &there))
	defer other.Close()
	away := httptest.NewServer(http.RedirectHandler(other.URL+"/x.git/info/refs?service=git-upload-pack",
		http.StatusFound))
	defer away.Close()
	if err := config.ListRemote(context.Background(), away.URL+"/x.git", sent); !errors.As(err, &refused) {
		t.Errorf("sent on: %v", err)
	}
	if len(there) > 0 {
		t.Errorf("another host got %q", there)
	}
}
