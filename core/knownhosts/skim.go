package knownhosts

import (
	"encoding/base64"
	"strings"

	"golang.org/x/crypto/ssh"
)

// A Skimmed is a line of a file that is not taken apart as a whole: of many hosts, few matter.
type Skimmed struct {
	File   string
	Line   int // counted from 1
	Marker Marker
	Hosts  string // as in [Entry]

	raw string
}

// Skim lists the lines that say something of a host, or look as if they did.
func Skim(file string, text []byte) []Skimmed {
	list := make([]Skimmed, 0, 1+len(text)/usualLine)
	number := 0
	for raw := range strings.Lines(string(text)) {
		number++
		if hosts := hostsOf(raw); hosts != "" && len(raw) <= maxLineBytes {
			list = append(list, Skimmed{file, number, markerOf(raw), hosts, raw})
		}
	}
	return list
}

// usualLine is about how long a line is.
const usualLine = 120

func markerOf(raw string) Marker {
	text := strings.TrimLeft(raw, " \t")
	for _, marker := range []Marker{Authority, Revoked} {
		if strings.HasPrefix(text, string(marker)) {
			return marker
		}
	}
	return Plain
}

// Matches is [Entry.Matches].
func (l Skimmed) Matches(name string) bool { return Entry{Hosts: l.Hosts}.Matches(name) }

// Whole takes the line apart; ok is false where that cannot be done, as the client passes over it.
func (l Skimmed) Whole() (entry Entry, ok bool) {
	whole, err := parseLine([]byte(l.raw))
	if err != nil || whole == nil {
		return Entry{}, false
	}
	whole.File, whole.Line = l.File, l.Line
	return *whole, true
}

// Holds tells whether a key is in the line, of which blob is how lines write it, without its type.
func (l Skimmed) Holds(blob string) bool { return strings.Contains(l.raw, blob) }

// Blob is how lines write a key, without its type.
func Blob(key ssh.PublicKey) string { return base64.StdEncoding.EncodeToString(key.Marshal()) }
