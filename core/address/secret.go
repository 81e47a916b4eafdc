package address

import (
	"strings"

	"anchorage.example/unicrux/core/secret"
)

// leastToken is how long a login name is that is more likely a token.
const leastToken = 20

// HideSecret puts [secret.Mask] in place of a secret in a URL: a password, or a login name that is
// long enough to be a token. found tells whether there was one. ssh has no place for one.
func HideSecret(text string) (shown string, found bool) {
	scheme, rest, isURL := strings.Cut(text, "://")
	if !isURL || strings.HasSuffix(strings.ToLower(scheme), "ssh") {
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
		login, found = secret.Mask, true
	}
	if password {
		login, found = login+":"+secret.Mask, true
	}
	return scheme + "://" + login + rest[at:], found
}
