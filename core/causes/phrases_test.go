package causes

import (
	"strings"
	"testing"
)

// filled is a message with something in the place of each value.
func filled(message string) string { return places().ReplaceAllString(message, "forge") }

// TestTranslations: what a client's message says in English, it says in every language in which it is known.
func TestTranslations(t *testing.T) {
	t.Parallel()
	first := func(text string) string {
		if r := Explain("fatal: " + text + "\n"); len(r.Causes) > 0 {
			return r.Causes[0].Code.String()
		}
		return ""
	}
	read := 0
	codes := map[string]string{}
	for _, p := range phrases() {
		want, known := codes[p.english]
		if !known {
			want = first(filled(p.english))
			codes[p.english] = want
		}
		if want == "" {
			continue
		}
		read++
		if got := first(filled(p.other)); got != want {
			t.Errorf("%q is %s, and its English %q is %s", p.other, got, p.english, want)
		}
	}
	if read < 1500 || strings.Contains(phraseText, "\t") {
		t.Errorf("%d were read", read)
	}
}
