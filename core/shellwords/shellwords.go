// Package shellwords writes words so that a POSIX shell reads them back as they were ("Quoting" in sh(1p)). git and ssh
// hand command lines of their settings to one, and people copy them into one.
package shellwords

import "strings"

// special are the characters that some shell reads as more than themselves.
const special = " '\"\\$`!*?[](){}<>|&;#~^"

// Quote writes one word: as it is where every shell reads it as itself, else in apostrophes.
func Quote(word string) string {
	if word != "" && !strings.ContainsAny(word, special) && !strings.ContainsFunc(word, isControl) {
		return word
	}
	return Always(word)
}

func isControl(r rune) bool { return r < ' ' || r == 0x7f }

// Always writes one word in apostrophes, whatever is in it.
func Always(word string) string { return "'" + strings.ReplaceAll(word, "'", `'\''`) + "'" }

// Join writes a command line of several words.
func Join(words ...string) string {
	quoted := make([]string, len(words))
	for i, word := range words {
		quoted[i] = Quote(word)
	}
	return strings.Join(quoted, " ")
}

// Typed writes a command line for people to type: "~/" at the beginning of a word stays, which the shell replaces by
// the home folder.
func Typed(words []string) string {
	quoted := make([]string, len(words))
	for i, word := range words {
		quoted[i] = Quote(word)
		if inside, found := strings.CutPrefix(word, "~/"); found && Quote(inside) == inside {
			quoted[i] = word
		}
	}
	return strings.Join(quoted, " ")
}

// GitPath writes a path as git sends it to a host's shell: always in apostrophes, and with "!" outside of them, which
// some shells read even there (sq_quote_buf in quote.c of git).
func GitPath(path string) string {
	return "'" + strings.NewReplacer("'", `'\''`, "!", `'\!'`).Replace(path) + "'"
}

// FromGitPath reads back what [GitPath] writes.
func FromGitPath(text string) string {
	text = strings.TrimSuffix(strings.TrimPrefix(text, "'"), "'")
	return strings.NewReplacer(`'\''`, "'", `'\!'`, "!").Replace(text)
}
