package gitlink

import (
	"crypto/tls"
	"net"
	"net/url"
	"strconv"
	"strings"

	"anchorage.example/unicrux/core/allow"
)

// A Web is what git does over HTTPS for a URL: its settings, and what the environment says
// before or beside them ("http.*" in git-config(1), ENVIRONMENT in curl(1)).
type Web struct {
	Proxy      string // empty for none
	Authority  string // a file with the certificates to trust; empty for the system's
	Folder     string // with certificates to trust beside those; empty for none
	Blind      bool   // the certificate is not looked at
	Headers    []string
	CookieFile string   // from which cookies go along; empty for none
	OwnCert    string   // a file with a certificate of ours, for hosts that want one; empty for none
	OwnKey     string   // and its key; empty where the certificate's file holds it too
	Stay       bool     // git is told to follow no redirect
	Pins       []string // fingerprints of the certificates that alone are trusted, as hg writes them; nil for any
	KeyPins    string   // the public keys that alone are taken, as http.pinnedPubkey has them; empty for any
	Least      uint16   // the oldest version of TLS that may be spoken (crypto/tls); 0 for the library's
	At         string   // an address in place of the host's name; empty for none

	origins map[string]string
	lookup  func(name string) (string, bool) // of the environment
}

// Origin tells where something stands: "proxy", "authority", "blind", "header", "own", "stay", "pin", "version",
// "folder", "cookies" or "at".
func (w *Web) Origin(name string) string { return w.origins[name] }

// leastTLS are the values of http.sslVersion: git's library takes each for the oldest version.
var leastTLS = map[string]uint16{"tlsv1": tls.VersionTLS10, "tlsv1.0": tls.VersionTLS10, "tlsv1.1": tls.VersionTLS11,
	"tlsv1.2": tls.VersionTLS12, "tlsv1.3": tls.VersionTLS13}

// Web settles what git does over HTTPS for a URL.
func (c *Config) Web(target *url.URL) *Web { return c.WebOf("", target) }

// WebOf is [Config.Web] for a remote, which may have a proxy of its own ("remote.<name>.proxy" in
// git-config(1)).
func (c *Config) WebOf(remote string, target *url.URL) *Web {
	w := &Web{origins: map[string]string{}, lookup: c.station.Lookup}
	for _, s := range c.For("http", target.String()) {
		switch s.Name {
		case "http.proxy":
			w.Proxy, w.origins["proxy"] = s.Entry.Value, s.Entry.Origin
		case "http.sslcainfo":
			w.Authority, w.origins["authority"] = s.Entry.Value, s.Entry.Origin
		case "http.sslcapath":
			w.Folder, w.origins["folder"] = s.Entry.Value, s.Entry.Origin
		case "http.cookiefile":
			w.CookieFile, w.origins["cookies"] = s.Entry.Value, s.Entry.Origin
		case "http.sslverify":
			w.Blind, w.origins["blind"] = isFalse(s.Entry.Value), s.Entry.Origin
		case "http.sslversion":
			w.Least, w.origins["version"] = leastTLS[strings.ToLower(s.Entry.Value)], s.Entry.Origin
		case "http.pinnedpubkey":
			w.KeyPins, w.origins["pin"] = s.Entry.Value, s.Entry.Origin
		case "http.sslcert":
			w.OwnCert, w.origins["own"] = s.Entry.Value, s.Entry.Origin
		case "http.sslkey":
			w.OwnKey = s.Entry.Value
		case "http.followredirects":
			w.Stay, w.origins["stay"] = isFalse(s.Entry.Value), s.Entry.Origin
		case "http.extraheader":
			if s.Entry.Value == "" { // an empty one clears the list
				w.Headers = nil
				continue
			}
			w.Headers, w.origins["header"] = append(w.Headers, s.Entry.Value), s.Entry.Origin
		case "http.curloptresolve":
			host, at, found := strings.Cut(s.Entry.Value, ":")
			port, at, more := strings.Cut(at, ":")
			if found && more && allow.SameHost(host, target.Hostname()) && port == portText(target) {
				w.At, w.origins["at"] = strings.Trim(at, "[]"), s.Entry.Origin
			}
		}
	}
	if entry, found := c.Last("remote." + remote + ".proxy"); remote != "" && found {
		w.Proxy, w.origins["proxy"] = entry.Value, entry.Origin
	}
	w.environment(c.station.Getenv, target)
	if w.Proxy != "" && !strings.Contains(w.Proxy, "://") { // as curl(1) reads it
		w.Proxy = "http://" + w.Proxy
	}
	return w
}

// environment adds what the environment says: some of it wins, the proxy gives way.
func (w *Web) environment(getenv func(string) string, target *url.URL) {
	for name, to := range map[string]*string{"CURL_CA_BUNDLE": &w.Authority, "SSL_CERT_FILE": &w.Authority} {
		if text := getenv(name); text != "" && *to == "" {
			*to, w.origins["authority"] = text, "environment: "+name
		}
	}
	if text := getenv("GIT_SSL_CAINFO"); text != "" {
		w.Authority, w.origins["authority"] = text, "environment: GIT_SSL_CAINFO"
	}
	if text := getenv("GIT_SSL_CAPATH"); text != "" {
		w.Folder, w.origins["folder"] = text, "environment: GIT_SSL_CAPATH"
	}
	if text := getenv("GIT_SSL_VERSION"); text != "" {
		w.Least, w.origins["version"] = leastTLS[strings.ToLower(text)], "environment: GIT_SSL_VERSION"
	}
	if text := getenv("GIT_SSL_CERT"); text != "" {
		w.OwnCert, w.origins["own"] = text, "environment: GIT_SSL_CERT"
	}
	if text := getenv("GIT_SSL_KEY"); text != "" {
		w.OwnKey = text
	}
	if text := getenv("GIT_SSL_NO_VERIFY"); text != "" {
		w.Blind, w.origins["blind"] = true, "environment: GIT_SSL_NO_VERIFY"
	}
	if w.Proxy == "" {
		w.proxyOfEnvironment(target)
	}
	if exempt := w.exempt(); w.Proxy != "" && exempts(exempt, target.Hostname()) {
		w.Proxy = ""
		delete(w.origins, "proxy")
	}
}

// proxyOfEnvironment finds the proxy where git's configuration names none. A variable that is set and empty
// takes the place of the others, and means none (var_override and get_active_slot in http.c of git).
func (w *Web) proxyOfEnvironment(target *url.URL) {
	if _, set := w.origins["proxy"]; set { // an empty one is git's way to say: none
		return
	}
	first := []string{"https_proxy", "HTTPS_PROXY"}
	if target.Scheme == "http" { // curl(1) takes no HTTP_PROXY: web servers set it from a header
		first = []string{"http_proxy"}
	}
	for _, names := range [][]string{first, {"all_proxy", "ALL_PROXY"}} {
		for _, name := range names {
			if text, set := w.lookup(name); set {
				w.Proxy, w.origins["proxy"] = text, "environment: "+name
				return
			}
		}
	}
}

// exempt is the list of hosts to which git goes without a proxy.
func (w *Web) exempt() string {
	if text, set := w.lookup("no_proxy"); set {
		return text
	}
	text, _ := w.lookup("NO_PROXY")
	return text
}

// exempts tells whether a list leaves a host out, as git's library reads it: names between commas or blanks,
// each for itself and all below it, addresses, and networks (Curl_check_noproxy in noproxy.c of curl).
func exempts(list, host string) bool {
	host = strings.TrimSuffix(allow.LowerHost(host), ".")
	ip := net.ParseIP(host)
	if list == "*" {
		return true
	}
	for _, name := range strings.FieldsFunc(strings.ToLower(list),
		func(r rune) bool { return r == ',' || r == ' ' || r == '\t' }) {
		if ip != nil {
			if _, network, err := net.ParseCIDR(name); err == nil && network.Contains(ip) {
				return true
			}
			if other := net.ParseIP(strings.Trim(name, "[]")); other != nil && other.Equal(ip) {
				return true
			}
			continue
		}
		name = strings.TrimSuffix(strings.TrimPrefix(name, "."), ".")
		if name != "" && (host == name || strings.HasSuffix(host, "."+name)) {
			return true
		}
	}
	return false
}

// IsTrue tells whether a value means yes ("boolean" in git-config(1)); numbers other than zero do.
func IsTrue(text string) bool {
	if n, err := strconv.Atoi(text); err == nil {
		return n != 0
	}
	switch strings.ToLower(text) {
	case "true", "yes", "on":
		return true
	}
	return false
}

func isFalse(text string) bool {
	switch strings.ToLower(text) {
	case "false", "no", "off", "0":
		return true
	}
	return false
}

func portText(u *url.URL) string {
	switch {
	case u.Port() != "":
		return u.Port()
	case u.Scheme == "http":
		return "80"
	}
	return "443"
}
