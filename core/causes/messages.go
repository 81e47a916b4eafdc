package causes

import (
	_ "embed"
	"slices"
	"strings"
	"sync"
)

// messageText lists the messages of the clients' sources: who prints them, the code of the cause that they name alone
// ("-" for none), and the message, with %s where it has a value.
//
//go:embed messages.txt
var messageText string

// A message is one that a program prints.
type message struct {
	client string // "git", "ssh", "curl", "gnutls", "openssl", "hg", or one of alsoHosts
	code   string
	text   string
}

var messages = sync.OnceValue(func() []message {
	var list []message
	for line := range strings.Lines(messageText) {
		parts := strings.SplitN(strings.TrimSuffix(line, "\n"), "\t", 3)
		if len(parts) == 3 {
			list = append(list, message{parts[0], parts[1], parts[2]})
		}
	}
	return list
})

// alsoHosts are those whose messages hosts print as well: git's programs there, and the C library, by what failed.
var alsoHosts = []string{"host", "connect", "resolver", "file"}

// shortestBeginning is from how many characters on the beginning of a message stands for it.
const shortestBeginning = 12

// beginnings are how the messages of clients begin, up to their first value, in lower case and in order; of two that
// begin alike the shorter one alone.
var beginnings = sync.OnceValue(func() []string {
	var list []string
	for _, m := range messages() {
		text, _, _ := strings.Cut(m.text, "%s")
		text = strings.ToLower(quotes.Replace(text))
		if !slices.Contains(alsoHosts, m.client) && len(text) >= shortestBeginning {
			list = append(list, text)
		}
	}
	slices.Sort(list)
	kept := list[:0]
	for _, text := range list {
		if len(kept) == 0 || !strings.HasPrefix(text, kept[len(kept)-1]) {
			kept = append(kept, text)
		}
	}
	return kept
})

// byClient reports whether a line is a message of a client's own, and nothing that a host said.
func byClient(line string) bool {
	line = strings.ToLower(line)
	if strings.HasPrefix(line, "remote: ") {
		return false
	}
	rest := line
	for range 3 {
		if isMessage(rest) {
			return true
		}
		before, behind, found := strings.Cut(rest, ": ")
		if !found || strings.ContainsAny(before, " \t") {
			return false
		}
		rest = behind
	}
	return false
}

// isMessage reports whether a text, in lower case, begins as a client's message does.
func isMessage(text string) bool {
	list := beginnings()
	i, found := slices.BinarySearch(list, text)
	return found || i > 0 && strings.HasPrefix(text, list[i-1])
}

// hostsPart is a text with spaces in place of the lines that clients say, so that all others stay where they are.
func hostsPart(text string) string {
	var b strings.Builder
	for line := range strings.Lines(text) {
		if body := strings.TrimSuffix(line, "\n"); byClient(body) {
			b.WriteString(strings.Repeat(" ", len(body)))
			line = line[len(body):]
		}
		b.WriteString(line)
	}
	return b.String()
}
