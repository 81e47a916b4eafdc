package gitlink

import (
	"net/url"
	"slices"
	"strings"

	"anchorage.example/unicrux/core/allow"
)

// A URLSetting is a variable of git's that holds for a URL, with the values that lost.
type URLSetting struct {
	Name  string // section and variable, without the URL between
	Entry Entry  // the one that counts
	Lost  []Lost
}

// A Lost value is one that does not count, and why.
type Lost struct {
	Entry Entry
	Why   string
}

// Why a value does not count.
const (
	lessSpecific = "another one matches the URL more closely"
	earlier      = "a later line wins"
	cleared      = "an empty value after it clears the list"
)

// lists are the variables of which every value counts, in order, and an empty one clears
// those before it ("credential.helper", "http.extraHeader" in git-config(1)).
var lists = map[string]bool{"credential.helper": true, "http.extraheader": true, "http.curloptresolve": true}

// For settles which variables of a section hold for a URL: those that stand alone, and those
// that name a URL which matches ("http.<url>.*" in git-config(1)).
func (c *Config) For(section, target string) []URLSetting {
	at, err := url.Parse(target)
	if err != nil {
		return nil
	}
	var names []string
	matching := map[string][]match{}
	for _, entry := range c.entries {
		name, pattern, found := ofSection(entry.Key, section)
		if !found {
			continue
		}
		m := match{entry: entry}
		if pattern != "" {
			if m.closeness, found = matchURL(pattern, at); !found &&
				(section != "credential" || !matchPart(pattern, at)) {
				continue
			}
		}
		if section == "credential" { // of these the last line wins, however close another one is
			m.closeness = closeness{}
		}
		if !slices.Contains(names, name) {
			names = append(names, name)
		}
		matching[name] = append(matching[name], m)
	}
	var settings []URLSetting
	for _, name := range names {
		settings = append(settings, settle(name, matching[name])...)
	}
	return settings
}

// About is [Config.For] for many URLs of one section: what each costs does not grow with the variables
// about other hosts.
func (c *Config) About(section string) func(target string) []URLSetting {
	type numbered struct {
		at    int
		entry Entry
	}
	everywhere := []numbered{}
	byHost := map[string][]numbered{}
	for i, entry := range c.entries {
		_, pattern, found := ofSection(entry.Key, section)
		if !found {
			continue
		}
		host := ""
		if at, err := url.Parse(pattern); err == nil && !strings.Contains(at.Host, "*") {
			host = allow.LowerHost(at.Hostname())
		}
		if host == "" {
			everywhere = append(everywhere, numbered{i, entry})
		} else {
			byHost[host] = append(byHost[host], numbered{i, entry})
		}
	}
	return func(target string) []URLSetting {
		at, err := url.Parse(target)
		if err != nil {
			return nil
		}
		near := slices.Concat(everywhere, byHost[allow.LowerHost(at.Hostname())])
		slices.SortFunc(near, func(a, b numbered) int { return a.at - b.at })
		some := &Config{station: c.station}
		for _, n := range near {
			some.entries = append(some.entries, n.entry)
		}
		return some.For(section, target)
	}
}

type match struct {
	entry Entry
	closeness
}

// A closeness ranks matches: by the host, then the path, then whether a user is named.
type closeness struct {
	host, path int
	user       bool
}

func (c closeness) less(other closeness) bool {
	switch {
	case c.host != other.host:
		return c.host < other.host
	case c.path != other.path:
		return c.path < other.path
	}
	return !c.user && other.user
}

// settle finds the values that count: one, or all of a list.
func settle(name string, matches []match) []URLSetting {
	if lists[name] {
		return settleList(name, matches)
	}
	best := matches[0]
	var lost []Lost
	for _, m := range matches[1:] {
		if m.less(best.closeness) {
			lost = append(lost, Lost{m.entry, lessSpecific})
			continue
		}
		why := earlier
		if best.less(m.closeness) {
			why = lessSpecific
		}
		lost = append(lost, Lost{best.entry, why})
		best = m
	}
	return []URLSetting{{Name: name, Entry: best.entry, Lost: lost}}
}

// settleList finds the values that add up. One that matches less closely than an earlier one does not count
// (urlmatch_config_entry in git's sources).
func settleList(name string, matches []match) []URLSetting {
	var settings []URLSetting
	var lost []Lost
	var best closeness
	for _, m := range matches {
		if m.less(best) {
			lost = append(lost, Lost{m.entry, lessSpecific})
			continue
		}
		best = m.closeness
		if m.entry.Value != "" {
			settings = append(settings, URLSetting{Name: name, Entry: m.entry})
			continue
		}
		for _, s := range settings {
			lost = append(lost, Lost{s.Entry, cleared})
		}
		settings = nil
	}
	if len(settings) > 0 {
		settings[0].Lost = lost
	}
	return settings
}

// ofSection takes a key apart: http.sslverify, or http.https://host/.sslverify.
func ofSection(key, section string) (name, pattern string, found bool) {
	rest, found := strings.CutPrefix(key, section+".")
	if !found {
		return "", "", false
	}
	i := strings.LastIndexByte(rest, '.')
	if i < 0 {
		return key, "", true
	}
	return section + rest[i:], rest[:i], true
}

// matchURL tells whether a pattern of the configuration matches a URL, and how closely: the
// scheme and port alike, each label of the host alike or "*", the path up to a slash, and
// the user where the pattern names one.
func matchURL(pattern string, at *url.URL) (closeness, bool) {
	p, err := url.Parse(pattern)
	if err != nil || !strings.EqualFold(p.Scheme, at.Scheme) || port(p) != port(at) {
		return closeness{}, false
	}
	if p.User != nil && (at.User == nil || p.User.Username() != at.User.Username()) {
		return closeness{}, false
	}
	want, have := strings.Split(allow.LowerHost(p.Hostname()), "."), strings.Split(allow.LowerHost(at.Hostname()), ".")
	if len(want) != len(have) {
		return closeness{}, false
	}
	for i := range want {
		if want[i] != "*" && want[i] != have[i] {
			return closeness{}, false
		}
	}
	path, under := strings.TrimSuffix(p.Path, "/")+"/", strings.TrimSuffix(at.Path, "/")+"/"
	if !strings.HasPrefix(under, path) {
		return closeness{}, false
	}
	return closeness{host: len(p.Hostname()), path: len(path), user: p.User != nil}, true
}

// matchPart tells whether a pattern that is a part of a URL, such as a host alone, matches a URL: each part that
// is there must be alike (credential_match in git's sources).
func matchPart(pattern string, at *url.URL) bool {
	rest := pattern
	if scheme, after, found := strings.Cut(pattern, "://"); found {
		if scheme != at.Scheme {
			return false
		}
		rest = after
	}
	host, path, _ := strings.Cut(rest, "/")
	if i := strings.LastIndexByte(host, '@'); i >= 0 {
		if host[:i] != at.User.Username() {
			return false
		}
		host = host[i+1:]
	}
	path = strings.Trim(path, "/")
	return (host == "" || host == at.Host) && (path == "" || path == strings.TrimPrefix(at.Path, "/"))
}

func port(u *url.URL) string {
	if text := u.Port(); text != "" {
		return text
	}
	return map[string]string{"https": "443", "http": "80"}[strings.ToLower(u.Scheme)]
}
