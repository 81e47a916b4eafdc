package address

import "strings"

// leastToken is how long a login name is that is more likely a token.
const leastToken = 20

// Hidden stands in place of a secret.
const Hidden = "••••"

// HideSecret puts [Hidden] in place of a secret in a URL: a password, or a login name that is
// long enough to be a token. secret tells whether there was one. ssh has no place for one.
func HideSecret(text string) (shown string, secret bool) {
	scheme, rest, found := strings.Cut(text, "://")
	if !found || strings.HasSuffix(strings.ToLower(scheme), "ssh") {
		return text, false
	}
	authority := rest
	if i := strings.IndexAny(rest, "/?#"); i >= 0 {
		authority = rest[:i]
	}
	at := strings.LastIndexByte(authority, '@')
	if at < 0 {
		return text, false
	}
	login, _, password := strings.Cut(authority[:at], ":")
	if len(login) >= leastToken {
		login, secret = Hidden, true
	}
	if password {
		login, secret = login+":"+Hidden, true
	}
	return scheme + "://" + login + rest[at:], secret
}
