package causes

import (
	"regexp"
	"slices"
	"strings"

	"anchorage.example/unicrux/core/lazyregexp"
)

// sentenceEnd is where a sentence of a host's ends.
var sentenceEnd = lazyregexp.Late(`[.!?;]\s+|\n`)

// heardBeyond are the causes that are no matter of the way and of which a host tells all the same, before anything was
// pushed.
var heardBeyond = []Code{DiskFull, MemoryShort, HostRule, HookThere}

// hostsOwn are causes that are faults of the host itself where the host tells of them: nobody can mend them here.
var hostsOwn = []Code{ProgramOld, LockLeft, FilesOwner, RepositoryDamaged}

// heard is from what weight on a form counts in the words of a host.
const heard = 0.5

// Hear finds the cause, between two stages, that a host's words mean: those of an ssh banner or a disconnection, of
// the error stream, of the body of a response. They are read sentence by sentence, as they were said: the first that
// names a cause counts, whatever follows from it. What is known of a cause that speaks against it is looked for in
// all of them. The zero Code is for words that mean none.
func Hear(said string, from, to StageName) Code {
	whole := newWords(passedOn(said))
	var may []entry
	for _, e := range catalogue {
		if (e.stage.Within(from, to) || slices.Contains(heardBeyond, e.code) || slices.Contains(hostsOwn, e.code)) &&
			(e.signs.unless == "" || whole.find(e.signs.unless) == nil) {
			may = append(may, e)
		}
	}
	for _, sentence := range append(sentences(said), said) {
		best, weight := Code{}, heard
		for _, e := range may {
			if found := e.signs.said(sentence); found > weight || best.IsZero() && found == weight {
				best, weight = e.code, found
			}
		}
		switch {
		case slices.Contains(hostsOwn, best):
			return HostFailing
		case !best.IsZero():
			return best
		}
	}
	return Code{}
}

// passedOn is what a host says as a client shows it (git-fetch-pack(1) and hg alike).
func passedOn(said string) string {
	return "remote: " + strings.ReplaceAll(strings.TrimSuffix(said, "\n"), "\n", "\nremote: ")
}

// said is how strongly one sentence of a host speaks for a cause.
func (s signs) said(sentence string) float64 {
	alone, through := newWords(sentence), newWords(passedOn(sentence))
	may := func(form string) bool { return alone.find(form) != nil || through.find(form) != nil }
	best := 0.0
	for _, sign := range s.shown {
		if sign.weight > best && may(sign.form) {
			best = sign.weight
		}
	}
	if best < hostWords && slices.ContainsFunc(s.words, may) {
		return hostWords
	}
	return best
}

func sentences(text string) []string {
	var list []string
	for _, sentence := range splitAt(sentenceEnd(), text) {
		if sentence = strings.TrimSpace(sentence); sentence != "" {
			list = append(list, sentence)
		}
	}
	return list
}

// splitAt splits a text behind each place where a form is found.
func splitAt(form *regexp.Regexp, text string) []string {
	var parts []string
	start := 0
	for _, at := range form.FindAllStringIndex(text, -1) {
		parts = append(parts, text[start:at[1]])
		start = at[1]
	}
	return append(parts, text[start:])
}
