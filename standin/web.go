package standin

import (
	"crypto/tls"
	"encoding/json"
	"fmt"
	"io"
	"log"
	"net/http"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
)

// maxRequest bounds what a client may send to the interface.
const maxRequest = 64 << 10

// wellKnown is where a host hands out its own description (RFC 8615).
const wellKnown = "/.well-known/unicrux"

func (h *Host) serveWeb() {
	mux := http.NewServeMux()
	h.world.serve(h, mux)
	mux.HandleFunc("GET "+wellKnown, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/toml")
		http.ServeFile(w, r, h.DescriptionFile())
	})
	mux.HandleFunc("/", h.serveGitHTTP)
	h.server = &http.Server{Handler: mux, ErrorLog: log.New(io.Discard, "", 0), ReadHeaderTimeout: 10 * time.Second,
		TLSConfig: &tls.Config{MinVersion: tls.VersionTLS12,
			GetConfigForClient: func(*tls.ClientHelloInfo) (*tls.Config, error) { return h.howToProve() }}}
	h.running.Go(func() { _ = h.server.ServeTLS(faulty{h.web, h, "https"}, "", "") }) // returns when the host is closed
}

// howToProve is how the host proves itself over TLS.
func (h *Host) howToProve() (*tls.Config, error) {
	config := &tls.Config{Certificates: []tls.Certificate{h.authority.leaf}, MinVersion: tls.VersionTLS12}
	if fault := h.wrong("https", func(f Fault) bool { return f.tls != nil }); fault.tls != nil {
		return config, fault.tls(h, config)
	}
	return config, nil
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

// CloneURL is the SSH clone URL of a repository.
func (h *Host) CloneURL(path string) string {
	return login + "@" + h.world.hostname + ":" + path + ".git"
}

// CloneHTTPS is the HTTPS clone URL of a repository.
func (h *Host) CloneHTTPS(path string) string {
	return fmt.Sprintf("https://%s:%d/%s.git", h.world.hostname, h.WebPort(), path)
}

// timeText writes a time as RFC 3339 has it; nothing for none.
func timeText(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.UTC().Format(time.RFC3339)
}
