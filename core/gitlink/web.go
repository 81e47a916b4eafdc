package gitlink

import (
	"crypto/tls"
	"net"
	"net/url"
	"slices"
	"strings"

	"golang.org/x/net/http/httpproxy"

	"Unicrux/core/allow"
)

// A Web is what git does over HTTPS for a URL: its settings, and what the environment says
// before or beside them ("http.*" in git-config(1), ENVIRONMENT in curl(1)).
type Web struct {
	Proxy     string // empty for none
	Authority string // a file with the certificates to trust; empty for the system's
	Blind     bool   // the certificate is not looked at
	Headers   []string
	OwnCert   string   // a file with a certificate of ours, for hosts that want one; empty for none
	OwnKey    string   // and its key; empty where the certificate's file holds it too
	Stay      bool     // git is told to follow no redirect
	Pins      []string // fingerprints of the certificates that alone are trusted, as hg writes them; nil for any
	KeyPins   string   // the public keys that alone are taken, as http.pinnedPubkey has them; empty for any
	Least     uint16   // the oldest version of TLS that may be spoken (crypto/tls); 0 for the library's
	At        string   // an address in place of the host's name; empty for none

	origins map[string]string
}

// Origin tells where something stands: "proxy", "authority", "blind", "header", "own", "stay", "pin", "version" or "at".
func (w *Web) Origin(name string) string { return w.origins[name] }

// leastTLS are the values of http.sslVersion: git's library takes each for the oldest version.
var leastTLS = map[string]uint16{"tlsv1": tls.VersionTLS10, "tlsv1.0": tls.VersionTLS10, "tlsv1.1": tls.VersionTLS11, "tlsv1.2": tls.VersionTLS12, "tlsv1.3": tls.VersionTLS13}

// Web settles what git does over HTTPS for a URL.
func (c *Config) Web(target *url.URL) *Web {
	w := &Web{origins: map[string]string{}}
	for _, s := range c.For("http", target.String()) {
		switch s.Name {
		case "http.proxy":
			w.Proxy, w.origins["proxy"] = s.Entry.Value, s.Entry.Origin
		case "http.sslcainfo":
			w.Authority, w.origins["authority"] = s.Entry.Value, s.Entry.Origin
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
	if _, set := w.origins["proxy"]; set { // an empty one is git's way to say: none
		return
	}
	names := []string{"https_proxy", "HTTPS_PROXY", "all_proxy", "ALL_PROXY"}
	if target.Scheme == "http" { // curl(1) takes no HTTP_PROXY: web servers set it from a header
		names = []string{"http_proxy", "all_proxy", "ALL_PROXY"}
	}
	for _, name := range names {
		text := getenv(name)
		if text == "" {
			continue
		}
		exempt := getenv("no_proxy")
		if exempt == "" {
			exempt = getenv("NO_PROXY")
		}
		if !exempts(exempt, target) {
			w.Proxy, w.origins["proxy"] = text, "environment: "+name
		}
		return
	}
}

// exempts tells whether a list of the environment leaves a host out. The library goes to this
// computer without a proxy in any case, and git's library does not.
func exempts(list string, target *url.URL) bool {
	host := allow.LowerHost(target.Hostname())
	if ip := net.ParseIP(host); host == "localhost" || ip != nil && ip.IsLoopback() {
		return slices.ContainsFunc(strings.FieldsFunc(list, func(r rune) bool { return r == ',' || r == ' ' }), func(name string) bool {
			return name == "*" || allow.SameHost(strings.TrimPrefix(name, "."), host)
		})
	}
	config := httpproxy.Config{HTTPProxy: "http://p", HTTPSProxy: "http://p", NoProxy: list}
	at, err := config.ProxyFunc()(target)
	return err == nil && at == nil
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
