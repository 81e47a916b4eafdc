// Package shellwords writes words so that a POSIX shell reads them back as they were ("Quoting" in sh(1p)). git and ssh
// hand command lines of their settings to one.
package shellwords

import "strings"

// plain are the characters that no shell reads as anything else, in a word that does not begin with "-" or "~".
const plain = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789@%+=:,./_-"

// Quote writes one word: as it is where that is safe, else in apostrophes.
func Quote(word string) string {
	if word != "" && strings.Trim(word, plain) == "" {
		return word
	}
	return Always(word)
}

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
