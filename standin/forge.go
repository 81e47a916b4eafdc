package standin

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
)

// A forgeAPI is the API of the forge: JSON, and pages by links.
type forgeAPI struct{ *Host }

// InterfacePath is where the forge's interface lies on its web server.
const InterfacePath = "/interface/1/"

// onePage is how many entries the forge tells at once.
const onePage = 30

// serve is an API that speaks JSON, takes bearer tokens (RFC 6750) and tells long
// lists in pages that are linked (RFC 8288).
func (h forgeAPI) serve(mux *http.ServeMux) {
	for pattern, handler := range map[string]http.HandlerFunc{
		"GET host-keys":                   h.hostKeys,
		"GET me":                          h.signedIn("", h.me),
		"GET me/keys":                     h.signedIn("keys", h.listing(&h.state.keys)),
		"POST me/keys":                    h.signedIn("keys", h.addKey),
		"DELETE me/keys/{id}":             h.signedIn("keys", h.removing(&h.state.keys)),
		"GET me/signing-keys":             h.signedIn("keys", h.listing(&h.state.signing)),
		"POST me/signing-keys":            h.signedIn("keys", h.addSigning),
		"DELETE me/signing-keys/{id}":     h.signedIn("keys", h.removing(&h.state.signing)),
		"GET me/tokens":                   h.signedIn("tokens", h.listTokens),
		"POST me/tokens":                  h.signedIn("tokens", h.issueToken),
		"GET me/tokens/self":              h.signedIn("", h.showToken),
		"POST me/tokens/{id}/renew":       h.signedIn("", h.renewToken),
		"DELETE me/tokens/{id}":           h.signedIn("", h.revokeToken),
		"GET repositories":                h.signedIn("repo:read", h.listRepositories),
		"POST repositories":               h.signedIn("repos", h.createRepository),
		"GET repositories/{group}/{name}": h.signedIn("repo:read", h.oneRepository),
	} {
		method, path, _ := strings.Cut(pattern, " ")
		mux.HandleFunc(method+" "+InterfacePath+path, handler)
	}
	oauthServer(h).serve(mux)
}

// signedIn lets a request through whose token belongs to an account and has a scope.
func (h forgeAPI) signedIn(scope string, serve func(http.ResponseWriter, *http.Request, *pass)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		given, _ := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
		p := h.passOf(given)
		switch {
		case p == nil:
			w.Header().Set("WWW-Authenticate", "Bearer")
			problem(w, http.StatusUnauthorized, "the token is not known here", "")
		case p.ended():
			w.Header().Set("WWW-Authenticate", `Bearer error="invalid_token"`)
			problem(w, http.StatusUnauthorized, "the token ended", "It ended on "+p.until.Format(time.DateOnly)+".")
		case h.isBlocked(p.account):
			problem(w, http.StatusForbidden, "the account "+p.account+" is blocked", "Ask the board.")
		case scope != "" && !p.may(scope):
			problem(w, http.StatusForbidden, "the token may not do this",
				"It needs "+scope+", and has "+strings.Join(p.scopes, ", ")+".")
		default:
			serve(w, r, p)
		}
	}
}

func (h forgeAPI) hostKeys(w http.ResponseWriter, _ *http.Request) {
	answer(w, http.StatusOK, map[string]any{"host_keys": []any{map[string]string{"line": publicLine(h.HostKey())}}})
}

func (h forgeAPI) me(w http.ResponseWriter, _ *http.Request, p *pass) {
	w.Header().Set("Tide-Scopes", strings.Join(p.scopes, ", "))
	if !p.until.IsZero() {
		w.Header().Set("Tide-Until", strconv.FormatInt(p.until.Unix(), 10))
	}
	answer(w, http.StatusOK, map[string]string{"account": p.account})
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

// listing tells the keys of one of the host's lists that are an account's, and open no single repository.
func (h forgeAPI) listing(list *[]registered) func(http.ResponseWriter, *http.Request, *pass) {
	return func(w http.ResponseWriter, _ *http.Request, p *pass) {
		h.state.Lock()
		defer h.state.Unlock()
		entries := []keyEntry{}
		for _, known := range *list {
			if known.account == p.account && known.repo == "" {
				entries = append(entries, known.entry())
			}
		}
		answer(w, http.StatusOK, map[string]any{"keys": entries})
	}
}

func (r registered) entry() keyEntry {
	access := "write"
	if r.ReadOnly {
		access = "read"
	}
	return keyEntry{ID: "key-" + r.id, Title: r.title, Line: publicLine(r.key), Added: timeText(r.added),
		Until: timeText(r.Until), Used: timeText(r.used), Access: access}
}

// A wantedKey is what the host is told about a key.
type wantedKey struct{ Title, Line, Until, Access string }

// readKey reads what the host is told; where that is no key, it has said so.
func readKey(w http.ResponseWriter, r *http.Request) (wanted wantedKey, key ssh.PublicKey, ok bool) {
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, maxRequest)).Decode(&wanted); err != nil ||
		wanted.Title == "" {
		problem(w, http.StatusBadRequest, "a title and a line are needed", "")
		return wanted, nil, false
	}
	key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(wanted.Line))
	if err != nil {
		problem(w, http.StatusUnprocessableEntity, "this is not a public key",
			"A public line begins with its kind, such as ssh-ed25519.")
	}
	return wanted, key, err == nil
}

func (h forgeAPI) addKey(w http.ResponseWriter, r *http.Request, p *pass) {
	wanted, key, ok := readKey(w, r)
	if !ok {
		return
	}
	terms := Terms{ReadOnly: wanted.Access == "read"}
	if wanted.Until != "" {
		var err error
		if terms.Until, err = time.Parse(time.RFC3339, wanted.Until); err != nil || terms.Until.Before(time.Now()) {
			problem(w, http.StatusUnprocessableEntity, "this is no end",
				"An end is a time in the future, as RFC 3339 writes it.")
			return
		}
	}
	id, err := h.RegisterOn(p.account, wanted.Title, key, terms)
	if err != nil {
		problem(w, http.StatusConflict, err.Error(), "Each key opens one account.")
		return
	}
	answer(w, http.StatusCreated, map[string]string{"id": "key-" + id})
}

// removing takes a key out of one of the host's lists.
func (h forgeAPI) removing(list *[]registered) func(http.ResponseWriter, *http.Request, *pass) {
	return func(w http.ResponseWriter, r *http.Request, p *pass) {
		h.state.Lock()
		defer h.state.Unlock()
		for i, known := range *list {
			if "key-"+known.id == r.PathValue("id") && known.account == p.account {
				*list = slices.Delete(*list, i, i+1)
				w.WriteHeader(http.StatusNoContent)
				return
			}
		}
		problem(w, http.StatusNotFound, "no such key", "")
	}
}

// addSigning takes a key with which an account signs commits. It opens nothing.
func (h forgeAPI) addSigning(w http.ResponseWriter, r *http.Request, p *pass) {
	wanted, key, ok := readKey(w, r)
	if !ok {
		return
	}
	h.state.Lock()
	defer h.state.Unlock()
	for _, known := range h.state.signing {
		if sameKey(known.key, key) {
			problem(w, http.StatusConflict, errKeyTaken.Error(), "")
			return
		}
	}
	h.state.last++
	id := strconv.Itoa(h.state.last)
	h.state.signing = append(h.state.signing, registered{id: id, account: p.account,
		title: wanted.Title, key: key, added: time.Now().UTC()})
	answer(w, http.StatusCreated, map[string]string{"id": "key-" + id})
}

// A tokenEntry is a token as the interface tells it. The token itself is told once.
type tokenEntry struct {
	ID      string   `json:"id"`
	Account string   `json:"account"`
	Label   string   `json:"label"`
	Scopes  []string `json:"scopes"`
	Made    string   `json:"made"`
	Until   string   `json:"until,omitempty"`
	Used    string   `json:"used,omitempty"`
	Token   string   `json:"token,omitempty"`
}

func (p *pass) entry() tokenEntry {
	return tokenEntry{ID: p.id, Account: p.account, Label: p.label, Scopes: p.scopes, Made: timeText(p.made),
		Until: timeText(p.until), Used: timeText(p.used)}
}

func (h forgeAPI) listTokens(w http.ResponseWriter, _ *http.Request, p *pass) {
	list := []tokenEntry{}
	for _, other := range h.passesOf(p.account) {
		list = append(list, other.entry())
	}
	answer(w, http.StatusOK, map[string]any{"tokens": list})
}

func (h forgeAPI) showToken(w http.ResponseWriter, _ *http.Request, p *pass) {
	answer(w, http.StatusOK, p.entry())
}

func (h forgeAPI) issueToken(w http.ResponseWriter, r *http.Request, p *pass) {
	var wanted struct {
		Label, Until string
		Scopes       []string
	}
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, maxRequest)).Decode(&wanted); err != nil ||
		wanted.Label == "" {
		problem(w, http.StatusBadRequest, "a label and a list of scopes are needed", "")
		return
	}
	if i := slices.IndexFunc(wanted.Scopes, func(s string) bool { return !slices.Contains(h.world.all, s) }); i >= 0 {
		problem(w, http.StatusUnprocessableEntity, "there is no such scope", wanted.Scopes[i])
		return
	}
	until, ok := end(w, wanted.Until)
	if ok {
		h.answerIssued(w, h.issue(p.account, wanted.Label, wanted.Scopes, until))
	}
}

// end reads when a token shall end: within a year.
func end(w http.ResponseWriter, text string) (time.Time, bool) {
	until, err := time.Parse(time.RFC3339, text)
	if err != nil || until.Before(time.Now()) || until.After(time.Now().AddDate(1, 0, 1)) {
		problem(w, http.StatusUnprocessableEntity, "this is no end",
			"A token ends within a year, at a time as RFC 3339 writes it.")
		return until, false
	}
	return until, true
}

func (h forgeAPI) answerIssued(w http.ResponseWriter, p *pass) {
	entry := p.entry()
	entry.Token = p.secret
	answer(w, http.StatusCreated, entry)
}

// renewToken gives another token for one, which goes on until it is revoked.
func (h forgeAPI) renewToken(w http.ResponseWriter, r *http.Request, p *pass) {
	var wanted struct{ Until string }
	_ = json.NewDecoder(http.MaxBytesReader(w, r.Body, maxRequest)).Decode(&wanted)
	for _, old := range h.passesOf(p.account) {
		if old.id != r.PathValue("id") || (old != p && !p.may("tokens")) {
			continue
		}
		if until, ok := end(w, wanted.Until); ok {
			h.answerIssued(w, h.issue(old.account, old.label, old.scopes, until))
		}
		return
	}
	problem(w, http.StatusNotFound, "no such token", "")
}

func (h forgeAPI) revokeToken(w http.ResponseWriter, r *http.Request, p *pass) {
	id := r.PathValue("id")
	if id != p.id && !p.may("tokens") {
		problem(w, http.StatusForbidden, "the token may not do this", "It may revoke itself alone.")
		return
	}
	if !h.revoke(p.account, id) {
		problem(w, http.StatusNotFound, "no such token", "")
		return
	}
	w.WriteHeader(http.StatusNoContent)
}

// A repoEntry is a repository as the interface tells it.
type repoEntry struct {
	Path       string   `json:"path"`
	CloneSSH   string   `json:"clone_ssh"`
	CloneHTTPS string   `json:"clone_https"`
	MayWrite   bool     `json:"may_write"`
	Frozen     bool     `json:"frozen"`
	Private    bool     `json:"private"`
	Usual      string   `json:"usual_branch,omitempty"`
	Branches   []Branch `json:"branches,omitempty"`
}

func (h forgeAPI) entry(s sight) repoEntry {
	return repoEntry{Path: s.path, CloneSSH: h.CloneURL(s.path), CloneHTTPS: h.CloneHTTPS(s.path),
		MayWrite: s.mayWrite, Frozen: s.frozen, Private: s.private}
}

func (h forgeAPI) listRepositories(w http.ResponseWriter, r *http.Request, p *pass) {
	list := []repoEntry{}
	search := r.URL.Query().Get("search")
	for _, repo := range h.sights(p.account) {
		if strings.Contains(repo.path, search) {
			list = append(list, h.entry(repo))
		}
	}
	page, _ := strconv.Atoi(r.URL.Query().Get("page"))
	begin := min(max(page-1, 0)*onePage, len(list))
	last := min(begin+onePage, len(list))
	if last < len(list) {
		next := r.URL.Query()
		next.Set("page", strconv.Itoa(max(page, 1)+1))
		w.Header().Set("Link", fmt.Sprintf(`<%s?%s>; rel="next"`, r.URL.Path, next.Encode()))
	}
	answer(w, http.StatusOK, map[string]any{"repositories": list[begin:last]})
}

func (h forgeAPI) oneRepository(w http.ResponseWriter, r *http.Request, p *pass) {
	repo, seen := h.sight(p.account, r.PathValue("group")+"/"+r.PathValue("name"))
	if !seen {
		problem(w, http.StatusNotFound, "no such repository", "Or one that you may not see.")
		return
	}
	h.answerRepository(w, http.StatusOK, repo)
}

func (h forgeAPI) answerRepository(w http.ResponseWriter, status int, repo sight) {
	entry := h.entry(repo)
	entry.Usual = "main"
	var err error
	if entry.Branches, err = h.Branches(repo.path); err != nil {
		problem(w, http.StatusInternalServerError, "the repository cannot be read", "")
		return
	}
	answer(w, status, entry)
}

func (h forgeAPI) createRepository(w http.ResponseWriter, r *http.Request, p *pass) {
	var wanted struct {
		Group, Name, About string
		Private            bool
	}
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, maxRequest)).Decode(&wanted); err != nil {
		problem(w, http.StatusBadRequest, "a name is needed", "")
		return
	}
	repo, err := h.create(p.account, strings.TrimPrefix(wanted.Group+"/"+wanted.Name, "/"), wanted.Private)
	switch {
	case errors.Is(err, errRepoTaken):
		problem(w, http.StatusConflict, err.Error(), "")
	case err != nil:
		problem(w, http.StatusUnprocessableEntity, err.Error(), "")
	default:
		h.answerRepository(w, http.StatusCreated, repo)
	}
}
