package standin

import (
	"fmt"
	"html"
	"net/http"
	"slices"
	"strings"
	"time"
)

// An oauthServer is a host's server for signing in (RFC 6749, RFC 8628).
type oauthServer struct{ *Host }

// How long a code of the device flow is good, and how often a client may ask about it.
const (
	codeLife     = 2 * time.Minute
	pollInterval = time.Second
	accessLife   = time.Hour
)

// A deviceCode is one that a person enters in a browser (RFC 8628).
type deviceCode struct {
	device, user string
	scopes       []string
	made, polled time.Time
	account      string // who allowed it; empty as long as nobody did
	denied       bool
}

// serve is the forge's authorization server: metadata (RFC 8414), device authorization
// (RFC 8628), refreshing (RFC 6749), revocation (RFC 7009) and introspection (RFC 7662).
func (h oauthServer) serve(mux *http.ServeMux) {
	mux.HandleFunc("GET /.well-known/oauth-authorization-server", func(w http.ResponseWriter, _ *http.Request) {
		base := fmt.Sprintf("https://%s:%d", h.world.hostname, h.WebPort())
		answer(w, http.StatusOK, map[string]any{
			"issuer": base + "/", "device_authorization_endpoint": base + "/oauth/device",
			"token_endpoint":      base + "/oauth/token",
			"revocation_endpoint": base + "/oauth/revoke", "introspection_endpoint": base + "/oauth/introspect",
			"grant_types_supported":    []string{"urn:ietf:params:oauth:grant-type:device_code", "refresh_token"},
			"response_types_supported": []string{},
		})
	})
	mux.HandleFunc("POST /oauth/device", h.beginDevice)
	mux.HandleFunc("POST /oauth/token", h.giveAccess)
	mux.HandleFunc("POST /oauth/revoke", h.revokeAccess)
	mux.HandleFunc("POST /oauth/introspect", h.introspect)
	mux.HandleFunc("GET /device", h.devicePage)
	mux.HandleFunc("POST /device", h.decideDevice)
}

// client reads a request's form, and refuses a client that is not known.
func (h oauthServer) client(w http.ResponseWriter, r *http.Request) bool {
	r.Body = http.MaxBytesReader(w, r.Body, maxRequest)
	if r.PostFormValue("client_id") == "unicrux-practice" {
		return true
	}
	refuse(w, http.StatusUnauthorized, "invalid_client")
	return false
}

// refuse answers as RFC 6749, section 5.2 has it.
func refuse(w http.ResponseWriter, status int, code string) {
	answer(w, status, map[string]string{"error": code})
}

func (h oauthServer) beginDevice(w http.ResponseWriter, r *http.Request) {
	if !h.client(w, r) {
		return
	}
	scopes := strings.Fields(r.PostFormValue("scope"))
	if slices.ContainsFunc(scopes, func(s string) bool { return !slices.Contains(h.world.all, s) }) {
		refuse(w, http.StatusBadRequest, "invalid_scope")
		return
	}
	letters := strings.ToUpper(newSecret(""))
	code := &deviceCode{device: newSecret("device-"), user: letters[:4] + "-" + letters[4:8], scopes: scopes,
		made: time.Now()}
	h.state.Lock()
	h.state.codes = append(h.state.codes, code)
	h.state.Unlock()
	page := fmt.Sprintf("https://%s:%d/device", h.world.hostname, h.WebPort())
	answer(w, http.StatusOK, map[string]any{"device_code": code.device,
		"user_code": code.user, "verification_uri": page,
		"verification_uri_complete": page + "?user_code=" + code.user, "expires_in": int(codeLife.Seconds()),
		"interval": int(pollInterval.Seconds())})
}

// Decide allows or denies a code, as an account does in a browser. It tells whether there is
// such a code.
func (h *Host) Decide(userCode, account string, allow bool) bool {
	h.state.Lock()
	defer h.state.Unlock()
	for _, code := range h.state.codes {
		if code.user == userCode && time.Since(code.made) < codeLife {
			code.denied = !allow
			if allow {
				code.account = account
			}
			return true
		}
	}
	return false
}

// Polled tells whether a program has asked about a code.
func (h *Host) Polled(userCode string) bool {
	h.state.Lock()
	defer h.state.Unlock()
	return slices.ContainsFunc(h.state.codes, func(c *deviceCode) bool {
		return c.user == userCode &&
			!c.polled.IsZero()
	})
}

// Waiting lists the codes about which nobody has decided.
func (h *Host) Waiting() []string {
	h.state.Lock()
	defer h.state.Unlock()
	var list []string
	for _, code := range h.state.codes {
		if code.account == "" && !code.denied {
			list = append(list, code.user)
		}
	}
	return list
}

func (h oauthServer) giveAccess(w http.ResponseWriter, r *http.Request) {
	if !h.client(w, r) {
		return
	}
	switch r.PostFormValue("grant_type") {
	case "urn:ietf:params:oauth:grant-type:device_code":
		account, scopes, problem := h.decided(r.PostFormValue("device_code"))
		if problem != "" {
			refuse(w, http.StatusBadRequest, problem)
			return
		}
		h.answerAccess(w, account, scopes)
	case "refresh_token":
		for _, account := range h.world.accounts {
			for _, p := range h.passesOf(account) {
				if p.refresh != "" && p.refresh == r.PostFormValue("refresh_token") {
					h.revoke(account, p.id) // each is good once
					h.answerAccess(w, account, p.scopes)
					return
				}
			}
		}
		refuse(w, http.StatusBadRequest, "invalid_grant")
	default:
		refuse(w, http.StatusBadRequest, "unsupported_grant_type")
	}
}

// decided tells what a person decided about a code, or in RFC 8628's words why not yet.
func (h oauthServer) decided(device string) (account string, scopes []string, problem string) {
	h.state.Lock()
	defer h.state.Unlock()
	for i, code := range h.state.codes {
		if code.device != device {
			continue
		}
		early := time.Since(code.polled) < pollInterval*9/10
		code.polled = time.Now()
		switch {
		case time.Since(code.made) > codeLife:
			return "", nil, "expired_token"
		case code.denied:
			return "", nil, "access_denied"
		case early:
			return "", nil, "slow_down"
		case code.account == "":
			return "", nil, "authorization_pending"
		}
		h.state.codes = append(h.state.codes[:i], h.state.codes[i+1:]...)
		return code.account, code.scopes, ""
	}
	return "", nil, "invalid_grant"
}

func (h oauthServer) answerAccess(w http.ResponseWriter, account string, scopes []string) {
	p := h.issue(account, "signed in", scopes, time.Now().Add(accessLife))
	h.state.Lock()
	p.refresh = newSecret("again-")
	h.state.Unlock()
	answer(w, http.StatusOK, map[string]any{"access_token": p.secret,
		"token_type": "bearer", "expires_in": int(accessLife.Seconds()),
		"refresh_token": p.refresh, "scope": strings.Join(scopes, " ")})
}

func (h oauthServer) revokeAccess(w http.ResponseWriter, r *http.Request) {
	if !h.client(w, r) {
		return
	}
	text := r.PostFormValue("token")
	for _, account := range h.world.accounts {
		for _, p := range h.passesOf(account) {
			if text != "" && (p.secret == text || p.refresh == text) {
				h.revoke(account, p.id)
			}
		}
	}
	w.WriteHeader(http.StatusOK) // whatever it was (RFC 7009, section 2.2)
}

func (h oauthServer) introspect(w http.ResponseWriter, r *http.Request) {
	if !h.client(w, r) {
		return
	}
	p := h.passOf(r.PostFormValue("token"))
	if p == nil || p.ended() {
		answer(w, http.StatusOK, map[string]any{"active": false})
		return
	}
	document := map[string]any{"active": true, "username": p.account, "scope": strings.Join(p.scopes, " ")}
	if !p.until.IsZero() {
		document["exp"] = p.until.Unix()
	}
	answer(w, http.StatusOK, document)
}

// devicePage is where a person enters a code.
func (h oauthServer) devicePage(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	_, _ = fmt.Fprintf(w, `<!doctype html><html lang="en"><title>%[1]s</title><h1>%[1]s</h1>
<form method="post" action="/device"><p>Let the program in that shows this code, as %[2]s?</p>
<input name="user_code" value="%[3]s"> <button name="allow" value="yes">Allow</button> <button name="allow" value="no">Deny</button></form>
`, html.EscapeString(h.world.title), h.world.owner, html.EscapeString(r.URL.Query().Get("user_code")))
}

func (h oauthServer) decideDevice(w http.ResponseWriter, r *http.Request) {
	r.Body = http.MaxBytesReader(w, r.Body, maxRequest)
	said := "There is no such code."
	if h.Decide(r.PostFormValue("user_code"), h.world.owner, r.PostFormValue("allow") == "yes") {
		said = "Done. Go back to the program."
	}
	_, _ = fmt.Fprintln(w, said)
}
