package standin

import (
	"fmt"
	"html"
	"net/http"
	"strings"

	"golang.org/x/crypto/ssh"
)

// lanternPage is the host's one page: its name, the key by which it is known, whose keys it
// lists, the keys, and what came of pasting one.
const lanternPage = `<!doctype html>
<html lang="en"><title>%[1]s</title>
<h1>%[1]s</h1>
<p>The key of this host: %[2]s</p>
<h2>Keys of %[3]s</h2>
<ul>%[4]s</ul>
<form method="post" action="/keys"><p>%[5]s</p><textarea name="line"></textarea> <button>Add this public line</button></form>
`

// serveLantern is a host without an interface: one page, on which a person pastes a line.
func (h *Host) serveLantern(mux *http.ServeMux) {
	mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, _ *http.Request) { h.lanternPage(w, "") })
	mux.HandleFunc("GET /keys", func(w http.ResponseWriter, _ *http.Request) { h.lanternPage(w, "") })
	mux.HandleFunc("POST /keys", func(w http.ResponseWriter, r *http.Request) {
		r.Body = http.MaxBytesReader(w, r.Body, maxRequest)
		key, comment, _, _, err := ssh.ParseAuthorizedKey([]byte(r.PostFormValue("line")))
		if err == nil {
			_, err = h.Register(h.world.owner, comment, key)
		}
		if err != nil {
			h.lanternPage(w, "That did not work: "+err.Error())
			return
		}
		h.lanternPage(w, "Added.")
	})
}

func (h *Host) lanternPage(w http.ResponseWriter, said string) {
	var keys strings.Builder
	h.state.Lock()
	for _, known := range h.state.keys {
		keys.WriteString("<li>" + html.EscapeString(known.title+" "+ssh.FingerprintSHA256(known.key)) + "</li>")
	}
	h.state.Unlock()
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	_, _ = fmt.Fprintf(w, lanternPage, html.EscapeString(h.world.title), h.HostKeyPrint(), h.world.owner,
		keys.String(), html.EscapeString(said))
}
