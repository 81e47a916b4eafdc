// Package untrusted makes text from elsewhere fit to be shown: banners, error texts, titles,
// comments. Such text is data and never steers the terminal.
package untrusted

import (
	"strings"
	"unicode"
)

// maxQuoted bounds what is shown of another's words, in characters.
const maxQuoted = 300

// Clean makes text from elsewhere fit to be shown: one line, no control characters and
// nothing that turns the direction of writing, and not without end.
func Clean(text string) string {
	if isClean(text) {
		return text
	}
	text = strings.ToValidUTF8(text, "�")
	text = strings.Map(func(r rune) rune {
		switch {
		case r == '\n' || r == '\t' || r == '\r':
			return ' '
		case Steers(r):
			return -1
		}
		return r
	}, text)
	words := []rune(strings.Join(strings.Fields(text), " "))
	if len(words) > maxQuoted {
		return string(words[:maxQuoted]) + "…"
	}
	return string(words)
}

// isClean tells of most texts at once that nothing is to be done to them.
func isClean(text string) bool {
	for i := range len(text) {
		blank := text[i] == ' '
		if text[i] < ' ' || text[i] > '~' || blank && (i == 0 || i == len(text)-1 || text[i-1] == ' ') {
			return false
		}
	}
	return len(text) <= maxQuoted
}

// Steers tells whether a character does something to the text around it instead of being seen:
// controls, what turns the direction of writing, and separators of lines.
func Steers(r rune) bool {
	return unicode.IsControl(r) || unicode.Is(unicode.Cf, r) || unicode.Is(unicode.Zl, r) || unicode.Is(unicode.Zp, r)
}

// Quote marks words as another's.
func Quote(words string) string { return "“" + words + "”" }
