package gitlink

import (
	"net/url"
	"os"
	"slices"
	"strings"

	"anchorage.example/unicrux/core/allow"
	"anchorage.example/unicrux/core/secret"
)

// Web settles what hg does over HTTPS for a URL ("web", "hostsecurity", "http_proxy" and "auth"
// in hgrc(5)).
func (m *Mercurial) Web(target *url.URL) *Web {
	w := &Web{origins: map[string]string{}}
	name := target.Hostname()
	if entry, found := m.Last("web.cacerts"); found && entry.Value != "" {
		w.Authority, w.origins["authority"] = m.expand(entry.Value, ""), entry.Origin
	} else if file := m.station.Getenv("SSL_CERT_FILE"); file != "" {
		w.Authority, w.origins["authority"] = file, "environment: SSL_CERT_FILE"
	}
	if entry, found := m.Last("hostsecurity." + name + ":verifycertsfile"); found && entry.Value != "" {
		w.Authority, w.origins["authority"] = m.expand(entry.Value, ""), entry.Origin
	}
	for _, key := range []string{"hostfingerprints." + name, "hostsecurity." + name + ":fingerprints"} {
		if entry, found := m.Last(key); found && entry.Value != "" {
			w.Pins, w.origins["pin"] = hgList(entry.Value), entry.Origin
		}
	}
	if group := m.group(target, ""); group != nil {
		w.OwnCert, w.OwnKey = m.expandSet(group["cert"].Value), m.expandSet(group["key"].Value)
		w.origins["own"] = group["cert"].Origin
	}
	m.proxy(w, target)
	return w
}

func (m *Mercurial) expandSet(path string) string {
	if path == "" {
		return ""
	}
	return m.expand(path, "")
}

// hgList reads a list ("Syntax" in hgrc(5)).
func hgList(text string) []string {
	return strings.FieldsFunc(text, func(r rune) bool { return strings.ContainsRune(" ,\t\n", r) })
}

// proxy settles through which proxy hg goes: one for http and https alike.
func (m *Mercurial) proxy(w *Web, target *url.URL) {
	text, origin := m.station.Getenv("http_proxy"), "environment: http_proxy"
	if entry, found := m.Last("http_proxy.host"); found && entry.Value != "" {
		text, origin = entry.Value, entry.Origin
	}
	if text == "" || m.direct(target.Hostname()) {
		return
	}
	if !strings.Contains(text, "://") {
		text = "http://" + text
	}
	at, err := url.Parse(text)
	if user, found := m.Last("http_proxy.user"); err == nil && found && user.Value != "" {
		word, _ := m.Last("http_proxy.passwd")
		at.User = url.UserPassword(user.Value, word.Value)
		text = at.String()
	}
	w.Proxy, w.origins["proxy"] = strings.TrimSuffix(text, "/"), origin
}

// direct tells whether hg goes to a host without the proxy.
func (m *Mercurial) direct(host string) bool {
	if always, found := m.Last("http_proxy.always"); found && isTrue(always.Value) {
		return false
	}
	exempt := []string{"localhost", "127.0.0.1"}
	if entry, found := m.Last("http_proxy.no"); found {
		exempt = append(exempt, hgList(strings.ToLower(entry.Value))...)
	}
	for _, name := range strings.Split(m.station.Getenv("no_proxy"), ",") {
		if name = strings.TrimSpace(name); name != "" {
			exempt = append(exempt, allow.LowerHost(name))
		}
	}
	host = allow.LowerHost(host)
	return slices.ContainsFunc(exempt, func(e string) bool {
		end, some := strings.CutPrefix(e, "*")
		return e == host || e == "*" || (some || strings.HasPrefix(e, ".")) && strings.HasSuffix(host, end)
	})
}

func isTrue(text string) bool {
	return slices.Contains([]string{"1", "yes", "true", "on", "always"}, strings.ToLower(text))
}

// group is the group of "auth" that fits a URL best: the longest prefix, and of two equal ones
// that which names a user.
func (m *Mercurial) group(target *url.URL, user string) map[string]Entry {
	groups, names := map[string]map[string]Entry{}, []string{}
	for _, entry := range m.section("auth") {
		i := strings.LastIndexByte(entry.Key, '.')
		if i < 0 {
			continue
		}
		name := entry.Key[:i]
		if groups[name] == nil {
			groups[name], names = map[string]Entry{}, append(names, name)
		}
		groups[name][entry.Key[i+1:]] = entry
	}
	var best map[string]Entry
	longest := 0
	place := target.Host + target.EscapedPath()
	for _, name := range names {
		group := groups[name]
		prefix, fits := fitting(group, target.Scheme, place, user)
		better := len(prefix) > longest || len(prefix) == longest && best != nil && best["username"].Value == "" &&
			group["username"].Value != ""
		if fits && prefix != "" && better {
			best, longest = group, len(prefix)
		}
	}
	return best
}

// fitting tells whether a group of "auth" is for a place, and by which prefix.
func fitting(group map[string]Entry, scheme, place, user string) (prefix string, fits bool) {
	if name := group["username"].Value; user != "" && name != "" && name != user {
		return "", false
	}
	prefix = group["prefix"].Value
	schemes := strings.Fields(group["schemes"].Value)
	if len(schemes) == 0 {
		schemes = []string{"https"}
	}
	if own, rest, found := strings.Cut(prefix, "://"); found {
		schemes, prefix = []string{own}, rest
	}
	host, rest, _ := strings.Cut(prefix, "/")
	if name, bare, found := strings.Cut(host, "@"); found {
		if name != user {
			return "", false
		}
		if prefix = bare; strings.Contains(group["prefix"].Value, bare+"/") {
			prefix += "/" + rest
		}
	}
	return prefix, (prefix == "*" || strings.HasPrefix(place, prefix)) && slices.Contains(schemes, scheme)
}

// Credential is what hg would send to a URL without asking anybody, and where it stands. The
// password is empty where hg would have to ask.
func (m *Mercurial) Credential(target *url.URL, user string) (credential Credential, origin string) {
	group := m.group(target, user)
	credential = Credential{Protocol: target.Scheme, Host: target.Host,
		Path: strings.TrimPrefix(target.Path, "/"), User: user}
	if group == nil {
		return credential, ""
	}
	if user == "" {
		credential.User = os.Expand(group["username"].Value, m.station.Getenv)
	}
	credential.Password = secret.New([]byte(group["password"].Value))
	origin = group["password"].Origin
	if origin == "" {
		origin = group["prefix"].Origin
	}
	return credential, origin
}
