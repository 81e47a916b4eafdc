package standin

import (
	"crypto/subtle"
	"crypto/tls"
	"encoding/json"
	"io"
	"log"
	"net/http"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
)

// interfacePath is where the interface lies on the web server.
const interfacePath = "/interface/1/"

// maxRequest bounds what a client may send to the interface.
const maxRequest = 64 << 10

func (h *Host) serveWeb() {
	mux := http.NewServeMux()
	mux.HandleFunc("GET "+interfacePath+"host-keys", h.hostKeys)
	mux.HandleFunc("GET "+interfacePath+"me", h.signedIn(h.me))
	mux.HandleFunc("GET "+interfacePath+"me/keys", h.signedIn(h.listKeys))
	mux.HandleFunc("POST "+interfacePath+"me/keys", h.signedIn(h.addKey))
	mux.HandleFunc("DELETE "+interfacePath+"me/keys/{id}", h.signedIn(h.removeKey))
	mux.HandleFunc("GET "+interfacePath+"repositories", h.signedIn(h.listRepositories))
	mux.HandleFunc("GET "+interfacePath+"repositories/{group}/{name}", h.signedIn(h.oneRepository))
	mux.HandleFunc("/", func(w http.ResponseWriter, _ *http.Request) { problem(w, http.StatusNotFound, "nothing here", "") })
	h.server = &http.Server{Handler: mux, ErrorLog: log.New(io.Discard, "", 0), ReadHeaderTimeout: 10 * time.Second,
		TLSConfig: &tls.Config{Certificates: []tls.Certificate{h.authority.leaf}, MinVersion: tls.VersionTLS12}}
	h.running.Go(func() { _ = h.server.ServeTLS(h.web, "", "") }) // returns when the host is closed
}

// signedIn lets a request through whose bearer token (RFC 6750) belongs to an account.
func (h *Host) signedIn(serve func(http.ResponseWriter, *http.Request, string)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		given, _ := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
		for account, token := range h.tokens {
			if subtle.ConstantTimeCompare([]byte(given), []byte(token)) == 1 {
				h.state.Lock()
				blocked := h.state.blocked[account]
				h.state.Unlock()
				if blocked {
					problem(w, http.StatusForbidden, "the account "+account+" is blocked", "Ask the board.")
					return
				}
				serve(w, r, account)
				return
			}
		}
		w.Header().Set("WWW-Authenticate", "Bearer")
		problem(w, http.StatusUnauthorized, "the token is not known here", "")
	}
}

func (h *Host) hostKeys(w http.ResponseWriter, _ *http.Request) {
	answer(w, http.StatusOK, map[string]any{"host_keys": []any{map[string]string{"line": publicLine(h.HostKey())}}})
}

func (h *Host) me(w http.ResponseWriter, _ *http.Request, account string) {
	answer(w, http.StatusOK, map[string]string{"account": account})
}

// A keyEntry is a registered key as the interface tells it.
type keyEntry struct {
	ID     string `json:"id"`
	Title  string `json:"title"`
	Line   string `json:"line"`
	Added  string `json:"added"` // RFC 3339, as the next two
	Until  string `json:"until,omitempty"`
	Used   string `json:"used,omitempty"`
	Access string `json:"access"` // read or write
}

func (h *Host) listKeys(w http.ResponseWriter, _ *http.Request, account string) {
	h.state.Lock()
	defer h.state.Unlock()
	list := []keyEntry{}
	for _, known := range h.state.keys {
		if known.account == account {
			list = append(list, known.entry())
		}
	}
	answer(w, http.StatusOK, map[string]any{"keys": list})
}

func (r registered) entry() keyEntry {
	entry := keyEntry{ID: r.id, Title: r.title, Line: publicLine(r.key), Added: r.added.Format(time.RFC3339), Access: "write"}
	if r.ReadOnly {
		entry.Access = "read"
	}
	if !r.Until.IsZero() {
		entry.Until = r.Until.UTC().Format(time.RFC3339)
	}
	if !r.used.IsZero() {
		entry.Used = r.used.Format(time.RFC3339)
	}
	return entry
}

func (h *Host) addKey(w http.ResponseWriter, r *http.Request, account string) {
	var wanted struct{ Title, Line, Until, Access string }
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, maxRequest)).Decode(&wanted); err != nil || wanted.Title == "" {
		problem(w, http.StatusBadRequest, "a title and a line are needed", "")
		return
	}
	key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(wanted.Line))
	if err != nil {
		problem(w, http.StatusUnprocessableEntity, "this is not a public key", "A public line begins with its kind, such as ssh-ed25519.")
		return
	}
	terms := Terms{ReadOnly: wanted.Access == "read"}
	if wanted.Until != "" {
		if terms.Until, err = time.Parse(time.RFC3339, wanted.Until); err != nil || terms.Until.Before(time.Now()) {
			problem(w, http.StatusUnprocessableEntity, "this is no end", "An end is a time in the future, as RFC 3339 writes it.")
			return
		}
	}
	id, err := h.RegisterOn(account, wanted.Title, key, terms)
	if err != nil {
		problem(w, http.StatusConflict, err.Error(), "Each key opens one account.")
		return
	}
	answer(w, http.StatusCreated, map[string]string{"id": id})
}

func (h *Host) removeKey(w http.ResponseWriter, r *http.Request, account string) {
	h.state.Lock()
	defer h.state.Unlock()
	for i, known := range h.state.keys {
		if known.id == r.PathValue("id") && known.account == account {
			h.state.keys = append(h.state.keys[:i], h.state.keys[i+1:]...)
			w.WriteHeader(http.StatusNoContent)
			return
		}
	}
	problem(w, http.StatusNotFound, "no such key", "")
}

// A repoEntry is a repository as the interface tells it.
type repoEntry struct {
	Path     string   `json:"path"`
	CloneSSH string   `json:"clone_ssh"`
	MayWrite bool     `json:"may_write"`
	Frozen   bool     `json:"frozen"`
	Branches []Branch `json:"branches,omitempty"`
}

func (h *Host) entry(s sight) repoEntry {
	return repoEntry{Path: s.path, CloneSSH: h.CloneURL(s.path), MayWrite: s.mayWrite, Frozen: s.frozen}
}

// CloneURL is the SSH clone URL of a repository.
func (h *Host) CloneURL(path string) string {
	return login + "@" + h.world.hostname + ":" + path + ".git"
}

func (h *Host) listRepositories(w http.ResponseWriter, _ *http.Request, account string) {
	list := []repoEntry{}
	for _, repo := range h.sights(account) {
		list = append(list, h.entry(repo))
	}
	answer(w, http.StatusOK, map[string]any{"repositories": list})
}

func (h *Host) oneRepository(w http.ResponseWriter, r *http.Request, account string) {
	repo, seen := h.sight(account, r.PathValue("group")+"/"+r.PathValue("name"))
	if !seen {
		problem(w, http.StatusNotFound, "no such repository", "Or one that you may not see.")
		return
	}
	entry := h.entry(repo)
	var err error
	if entry.Branches, err = h.Branches(repo.path); err != nil {
		problem(w, http.StatusInternalServerError, "the repository cannot be read", "")
		return
	}
	answer(w, http.StatusOK, entry)
}

func publicLine(key ssh.PublicKey) string {
	return strings.TrimSuffix(string(ssh.MarshalAuthorizedKey(key)), "\n")
}

func answer(w http.ResponseWriter, status int, document any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(document) // a client that left needs no answer
}

// problem refuses as RFC 9457 has it.
func problem(w http.ResponseWriter, status int, title, detail string) {
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(map[string]any{"status": status, "title": title, "detail": detail})
}
