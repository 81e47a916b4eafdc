package standin

import (
	"fmt"
	"net/http"
	"net/http/cgi"
	"os/exec"
	"path/filepath"
	"strings"
)

// Scopes that a token needs for git over HTTPS, by host.
var gitScopes = map[string]struct{ read, write string }{
	"forge": {"repo:read", "repo:write"}, "saltmarsh": {"read", "write"},
}

// serveGitHTTP serves smart HTTP by the real git (git-http-backend(1)), to whom signs in with a
// token by Basic sign-in (RFC 7617).
func (h *Host) serveGitHTTP(w http.ResponseWriter, r *http.Request) {
	path, rest, found := strings.Cut(strings.TrimPrefix(r.URL.Path, "/"), ".git/")
	if !found {
		problem(w, http.StatusNotFound, "nothing here", "")
		return
	}
	p, said := h.gitPass(r)
	fault := h.wrong("https", func(f Fault) bool { return f.web != nil })
	if fault.web != nil && p != nil { // who asks is told first
		fault.web(w)
		return
	}
	if p == nil {
		w.Header().Set("WWW-Authenticate", fmt.Sprintf(`Basic realm=%q`, h.world.title))
		gitSays(w, http.StatusUnauthorized, said)
		return
	}
	repo, seen := h.sight(p.account, path)
	writes := strings.HasSuffix(rest, "git-receive-pack") || r.URL.Query().Get("service") == "git-receive-pack"
	scopes := gitScopes[h.world.name]
	switch {
	case h.isBlocked(p.account):
		gitSays(w, http.StatusForbidden, "the account "+p.account+" is blocked: ask the board")
	case !seen || !p.may(scopes.read):
		gitSays(w, http.StatusNotFound, "there is no repository "+path+" that this token may see")
	case writes && !p.may(scopes.write):
		gitSays(w, http.StatusForbidden, "this token may not write: it needs "+scopes.write)
	case writes && repo.frozen:
		gitSays(w, http.StatusForbidden, path+" is frozen for everyone")
	case writes && !repo.mayWrite:
		gitSays(w, http.StatusForbidden, p.account+" may read "+path+", not write to it")
	default:
		h.backend(p.account).ServeHTTP(w, r)
	}
}

// gitPass finds the token of a request, or says why there is none.
func (h *Host) gitPass(r *http.Request) (*pass, string) {
	user, word, given := r.BasicAuth()
	if !given {
		return nil, "sign in with a token"
	}
	p := h.passOf(word)
	switch {
	case p == nil && word == MarshPassword:
		return nil, "account passwords are not taken here: make a token, and give that in place of the password"
	case p == nil:
		return nil, "this token is not known here"
	case p.ended():
		return nil, "the token ended on " + p.until.Format("2006-01-02")
	case user != p.account && user != "pass" && user != "token":
		return nil, "this token is another account's"
	}
	return p, ""
}

// gitSays refuses in words that git shows ("remote: …").
func gitSays(w http.ResponseWriter, status int, words string) {
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	w.WriteHeader(status)
	_, _ = fmt.Fprintln(w, words)
}

func (h *Host) backend(account string) http.Handler {
	core, err := exec.Command("git", "--exec-path").Output()
	if err != nil {
		return http.NotFoundHandler()
	}
	return &cgi.Handler{Path: filepath.Join(strings.TrimSpace(string(core)), "git-http-backend"),
		Env: append(h.hookSettings(), "GIT_PROJECT_ROOT="+filepath.Join(h.Folder, "repositories"),
			"GIT_HTTP_EXPORT_ALL=1", "REMOTE_USER="+account, "HOME="+h.Folder, "GIT_CONFIG_NOSYSTEM=1"),
		InheritEnv: []string{"PATH"}}
}
