package standin

import (
	"errors"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
)

// A marshAPI is the API of the saltmarsh: forms, page numbers, lookups and a password with a second step.
type marshAPI struct{ *Host }

// marshPage is how many rows the saltmarsh tells at once.
const marshPage = 2

// What the saltmarsh asks for before it issues a pass. Both are the practice host's own.
const (
	MarshPassword = "practice password"
	MarshCode     = "271828"
)

// Password is what a host of this kind wants in place of a token before it issues one, and the code of
// its second step; both are empty where it wants none.
func (h *Host) Password() (password, code string) {
	if h.world.name != "saltmarsh" {
		return "", ""
	}
	return MarshPassword, MarshCode
}

// serve is an API of another shape: a header of its own, forms, pages by number,
// numbers for everything, ends by the day, keys for one repository, and passes for the account's
// password with a second step.
func (h marshAPI) serve(mux *http.ServeMux) {
	for pattern, handler := range map[string]http.HandlerFunc{
		"GET whoami":                h.withPass("", h.whoami),
		"GET people/{uid}/pubkeys":  h.withPass("keys", h.marshKeys),
		"POST people/{uid}/pubkeys": h.withPass("keys", h.addMarshKey),
		"DELETE pubkeys/{id}":       h.withPass("keys", h.removeMarshKey),
		"GET trees":                 h.withPass("read", h.trees),
		"POST trees":                h.withPass("trees", h.plantTree),
		"GET trees/{tree}/pubkeys":  h.withPass("keys", h.marshKeys),
		"POST trees/{tree}/pubkeys": h.withPass("keys", h.addMarshKey),
		"GET passes":                h.withPass("passes", h.marshPasses),
		"DELETE passes/{id}":        h.withPass("", h.endPass),
		"POST passes":               h.issuePass,
	} {
		method, path, _ := strings.Cut(pattern, " ")
		mux.HandleFunc(method+" /api/"+path, handler)
	}
}

func fault(w http.ResponseWriter, status int, text string) {
	answer(w, status, map[string]any{"fault": map[string]any{"no": status, "text": text}})
}

func (h marshAPI) withPass(scope string, serve func(http.ResponseWriter, *http.Request, *pass)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		p := h.passOf(r.Header.Get("Marsh-Pass"))
		switch {
		case p == nil:
			fault(w, http.StatusUnauthorized, "nobody has this pass")
		case p.ended():
			fault(w, http.StatusUnauthorized, "the pass is over")
		case h.isBlocked(p.account):
			fault(w, http.StatusForbidden, "the account is closed")
		case scope != "" && !p.may(scope):
			fault(w, http.StatusForbidden, "the pass is not good for "+scope)
		default:
			serve(w, r, p)
		}
	}
}

// uid numbers the accounts.
func (h marshAPI) uid(account string) int { return 100 + slices.Index(h.world.accounts, account) }

func (h marshAPI) whoami(w http.ResponseWriter, _ *http.Request, p *pass) {
	answer(w, http.StatusOK, map[string]any{"person": map[string]any{"uid": h.uid(p.account), "login": p.account}})
}

// rows tells one page of a list.
func rows(w http.ResponseWriter, r *http.Request, list []any) {
	page, _ := strconv.Atoi(r.URL.Query().Get("page"))
	begin := min(max(page-1, 0)*marshPage, len(list))
	w.Header().Set("Marsh-Pages", strconv.Itoa((len(list)+marshPage-1)/marshPage))
	answer(w, http.StatusOK, map[string]any{"rows": append([]any{}, list[begin:min(begin+marshPage, len(list))]...)})
}

// tree finds the repository that a request names by its number; empty for none.
func (h marshAPI) tree(r *http.Request, p *pass) (path string, named, found bool) {
	number := r.PathValue("tree")
	if number == "" {
		return "", false, r.PathValue("uid") == strconv.Itoa(h.uid(p.account))
	}
	for _, s := range h.sights(p.account) {
		if strconv.Itoa(s.number) == number && s.mayWrite {
			return s.path, true, true
		}
	}
	return "", true, false
}

func (h marshAPI) marshKeys(w http.ResponseWriter, r *http.Request, p *pass) {
	path, named, found := h.tree(r, p)
	if !found {
		fault(w, http.StatusNotFound, "no such number")
		return
	}
	list := []any{}
	h.state.Lock()
	for _, known := range h.state.keys {
		if known.repo != path || (!named && known.account != p.account) {
			continue
		}
		algo, body, _ := strings.Cut(publicLine(known.key), " ")
		mode, kind := "rw", "person"
		if known.ReadOnly {
			mode = "ro"
		}
		if named {
			kind = "tree"
		}
		row := map[string]any{"no": known.number(), "label": known.title, "algo": algo, "body": body, "mode": mode,
			"kind": kind, "expires_on": nil}
		if !known.Until.IsZero() {
			row["expires_on"] = known.Until.Format(time.DateOnly)
		}
		list = append(list, row)
	}
	h.state.Unlock()
	rows(w, r, list)
}

func (r registered) number() int {
	n, _ := strconv.Atoi(r.id) // they are numbers
	return n
}

func (h marshAPI) addMarshKey(w http.ResponseWriter, r *http.Request, p *pass) {
	path, _, found := h.tree(r, p)
	if !found {
		fault(w, http.StatusNotFound, "no such number")
		return
	}
	r.Body = http.MaxBytesReader(w, r.Body, maxRequest)
	key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(r.PostFormValue("algo") + " " + r.PostFormValue("body")))
	label := r.PostFormValue("label")
	if err != nil || label == "" || len(label) > 40 {
		fault(w, http.StatusBadRequest, "a label of at most 40 letters and a key are needed")
		return
	}
	terms := Terms{ReadOnly: r.PostFormValue("mode") == "ro"}
	if day := r.PostFormValue("expires_on"); day != "" {
		end, err := time.Parse(time.DateOnly, day)
		if err != nil || end.Before(time.Now().Add(-24*time.Hour)) {
			fault(w, http.StatusBadRequest, "expires_on is a day to come")
			return
		}
		terms.Until = end.Add(24*time.Hour - time.Second)
	}
	id, err := h.register(registered{account: p.account, repo: path, title: label, key: key, Terms: terms})
	if err != nil {
		fault(w, http.StatusConflict, err.Error())
		return
	}
	number, _ := strconv.Atoi(id)
	answer(w, http.StatusCreated, map[string]any{"no": number})
}

func (h marshAPI) removeMarshKey(w http.ResponseWriter, r *http.Request, p *pass) {
	h.state.Lock()
	defer h.state.Unlock()
	before := len(h.state.keys)
	h.state.keys = slices.DeleteFunc(h.state.keys, func(k registered) bool {
		return k.id == r.PathValue("id") &&
			k.account == p.account
	})
	if len(h.state.keys) == before {
		fault(w, http.StatusNotFound, "no such number")
		return
	}
	answer(w, http.StatusOK, map[string]any{"gone": true})
}

// treeRow tells about a repository; the level is 1 for who may read and 3 for who may write.
func (h marshAPI) treeRow(s sight) map[string]any {
	level, hidden := 1, 0
	if s.mayWrite {
		level = 3
	}
	if s.private {
		hidden = 1
	}
	return map[string]any{"no": s.number, "tree": s.path, "level": level, "hidden": hidden,
		"urls": map[string]string{"ssh": h.CloneURL(s.path), "https": h.CloneHTTPS(s.path)}}
}

func (h marshAPI) trees(w http.ResponseWriter, r *http.Request, p *pass) {
	list := []any{}
	for _, s := range h.sights(p.account) {
		list = append(list, h.treeRow(s))
	}
	rows(w, r, list)
}

func (h marshAPI) plantTree(w http.ResponseWriter, r *http.Request, p *pass) {
	r.Body = http.MaxBytesReader(w, r.Body, maxRequest)
	s, err := h.create(p.account, r.PostFormValue("tree"), r.PostFormValue("hidden") == "1")
	switch {
	case errors.Is(err, errRepoTaken):
		fault(w, http.StatusConflict, err.Error())
	case err != nil:
		fault(w, http.StatusBadRequest, err.Error())
	default:
		answer(w, http.StatusOK, h.treeRow(s))
	}
}

func (h marshAPI) marshPasses(w http.ResponseWriter, r *http.Request, p *pass) {
	list := []any{}
	for _, other := range h.passesOf(p.account) {
		list = append(list, other.row())
	}
	rows(w, r, list)
}

// row tells about a pass; it ends at a number of milliseconds since 1970.
func (p *pass) row() map[string]any {
	number, _ := strconv.Atoi(p.id)
	row := map[string]any{"no": number, "label": p.label, "may": strings.Join(p.scopes, " "), "ends": nil}
	if !p.until.IsZero() {
		row["ends"] = p.until.UnixMilli()
	}
	return row
}

func (h marshAPI) endPass(w http.ResponseWriter, r *http.Request, p *pass) {
	if !h.revoke(p.account, r.PathValue("id")) {
		fault(w, http.StatusNotFound, "no such number")
		return
	}
	w.WriteHeader(http.StatusNoContent)
}

// issuePass issues a pass for the account's password and a code.
func (h marshAPI) issuePass(w http.ResponseWriter, r *http.Request) {
	account, password, _ := r.BasicAuth()
	switch {
	case !slices.Contains(h.world.accounts, account) || password != MarshPassword:
		fault(w, http.StatusUnauthorized, "wrong name or password")
		return
	case r.Header.Get("Marsh-Code") == "":
		w.Header().Set("Marsh-Step", "code")
		fault(w, http.StatusUnauthorized, "a code is needed")
		return
	case r.Header.Get("Marsh-Code") != MarshCode:
		fault(w, http.StatusUnauthorized, "wrong code")
		return
	}
	r.Body = http.MaxBytesReader(w, r.Body, maxRequest)
	days, err := strconv.Atoi(r.PostFormValue("days"))
	if err != nil || days < 1 || days > 90 {
		fault(w, http.StatusBadRequest, "a pass is good for 1 to 90 days")
		return
	}
	p := h.issue(account, r.PostFormValue("label"), r.PostForm["may"], time.Now().AddDate(0, 0, days))
	row := p.row()
	row["secret"] = p.secret
	answer(w, http.StatusOK, map[string]any{"pass": row})
}
