// Package redact recognises secrets in plain text, wherever they stand: in URLs, in headers,
// behind the words of netrc files, in variables, as private keys. Whatever is shown or recorded of
// somebody's files goes through it.
//
// [Mask] is what most callers want.
package redact

import (
	"bytes"
	"regexp"

	"anchorage.example/unicrux/core/lazyregexp"
	"anchorage.example/unicrux/core/secret"
)

// What stands before a secret, and the secret as the first group that is not empty.
var forms = []func() *regexp.Regexp{
	// A password in a URL, or a token in the place of the login name (RFC 3986, section 3.2.1). What
	// stands behind ssh:// is a login name and nothing else.
	lazyregexp.Late(`(?i)\b(?:https?|git|ftp|socks5h?)://[^\s:/@'"]*:([^\s@/'"]+)@`),
	lazyregexp.Late(`(?i)\b(?:https?|git|ftp|socks5h?)://([^\s:/@'"]{20,})@`),
	// A header that signs in (RFC 7617, RFC 6750), and those that some hosts have of their own.
	lazyregexp.Late(`(?i)\b(?:proxy-)?authorization:\s*([^\s'"][^\r\n'"]*)`),
	lazyregexp.Late(`(?i)\b(?:set-)?cookie:\s*([^\s'"][^\r\n'"]*)`),
	lazyregexp.Late(`(?i)\b[a-z][a-z-]*-(?:token|secret|key):\s*([^\s'"]{8,})`),
	// netrc(5).
	lazyregexp.Late(`(?m)(?:^|\s)(?:password|passwd)[ \t]+("[^"\r\n]*"|\S+)`),
	// Variables of shells, environment files and settings.
	lazyregexp.Late(`(?im)\b[a-z0-9_.-]*(?:` + secret.Names + `)[a-z0-9_]*[ \t]*[=:][ \t]*["']?([^\s"'#]{8,})`),
	// Keys (RFC 7468; the format age-encryption.org/v1).
	lazyregexp.Late(`(?s)-----BEGIN [A-Z0-9 ]*PRIVATE KEY-----(.*?)(?:-----END|\z)`),
	lazyregexp.Late(`(AGE-SECRET-KEY-[A-Z0-9-]+)`),
}

// A span is where a secret stands in a text.
type span struct{ from, to int }

// find finds every secret. Templates have "{" in the place of one, paths in an answer begin with "$",
// and the page on which tokens are made is a URL: these are none.
func find(text []byte) []span {
	var list []span
	for _, expression := range forms {
		for _, match := range expression().FindAllSubmatchIndex(text, -1) {
			if from, to := match[2], match[3]; from < to && !bytes.ContainsAny(text[from:to], "{$") &&
				!bytes.Contains(text[from:to], []byte("://")) {
				list = append(list, span{from, to})
			}
		}
	}
	return list
}

// In tells whether a secret stands in a text.
func In(text []byte) bool { return len(find(text)) > 0 }

// Mask puts [secret.Mask] in the place of every secret; line ends in one stay.
func Mask(text []byte) []byte {
	spans := find(text)
	if len(spans) == 0 {
		return text
	}
	hidden := make([]bool, len(text))
	for _, s := range spans {
		for i := s.from; i < s.to; i++ {
			hidden[i] = text[i] != '\n' && text[i] != '\r'
		}
	}
	var b bytes.Buffer
	for i := 0; i < len(text); i++ {
		switch {
		case !hidden[i]:
			b.WriteByte(text[i])
		case i == 0 || !hidden[i-1]:
			b.WriteString(secret.Mask)
		}
	}
	return b.Bytes()
}

// Text is [Mask] of a text.
func Text(text string) string { return string(Mask([]byte(text))) }
