package plainsecrets

import (
	"bytes"

	"anchorage.example/unicrux/core/allow"
)

// Without gives the text of a credential file or a netrc file without what some strays say; all
// else stays as it is, byte for byte.
func Without(sort Sort, text []byte, gone []Stray) []byte {
	if sort == Netrc {
		return withoutMachines(text, gone)
	}
	at := map[int]bool{}
	for _, s := range gone {
		at[s.Line] = true
	}
	var b bytes.Buffer
	n := 0
	for line := range bytes.Lines(text) {
		if n++; !at[n] {
			b.Write(line)
		}
	}
	return b.Bytes()
}

// withoutMachines takes machines out of a netrc file, each from its word to the next machine,
// default or macro.
func withoutMachines(text []byte, gone []Stray) []byte {
	skip := func(line int, host string) bool {
		for _, s := range gone {
			if s.Line == line && allow.SameHost(s.At, host) {
				return true
			}
		}
		return false
	}
	var b bytes.Buffer
	cutting, macro, n := false, false, 0
	for line := range bytes.Lines(text) {
		n++
		if macro {
			b.Write(line)
			macro = len(bytes.TrimSpace(line)) > 0
			continue
		}
		kept := 0 // where what is to be written begins
		comment := false
		for at, word := range wordsOf(line) {
			if comment = comment || word[0] == '#'; comment {
				break
			}
			switch string(word) {
			case "machine":
				now := skip(n, nextWord(line[at+len(word):]))
				if now && !cutting {
					b.Write(line[kept:at])
				}
				if !now && cutting {
					kept = at
				}
				cutting = now
			case "default", "macdef":
				if cutting {
					kept = at
				}
				cutting, macro = false, string(word) == "macdef"
			}
		}
		if !cutting {
			b.Write(line[kept:])
		}
	}
	return b.Bytes()
}

// wordsOf goes through the words of a line, with where each begins.
func wordsOf(line []byte) func(func(int, []byte) bool) {
	return func(yield func(int, []byte) bool) {
		for i := 0; i < len(line); {
			if line[i] == ' ' || line[i] == '\t' || line[i] == '\n' || line[i] == '\r' {
				i++
				continue
			}
			end := i + bytes.IndexAny(append(bytes.Clone(line[i:]), ' '), " \t\r\n")
			if !yield(i, line[i:end]) {
				return
			}
			i = end
		}
	}
}

func nextWord(text []byte) string {
	for _, word := range wordsOf(text) {
		return string(word)
	}
	return ""
}
