package knownhosts

import (
	"bytes"
	"encoding/base64"

	"golang.org/x/crypto/ssh"
)

// A Skimmed is a line of a file that is not taken apart as a whole: of many hosts, few matter.
type Skimmed struct {
	Entry // without the key and what stands behind it

	raw []byte
}

// Skim lists the lines that say something of a host, or look as if they did.
func Skim(file string, text []byte) []Skimmed {
	var list []Skimmed
	number := 0
	for raw := range bytes.Lines(text) {
		number++
		if hosts := hostsOf(raw); hosts != "" && len(raw) <= maxLineBytes {
			list = append(list, Skimmed{Entry{File: file, Line: number, Marker: markerOf(raw), Hosts: hosts}, raw})
		}
	}
	return list
}

func markerOf(raw []byte) Marker {
	text := bytes.TrimLeft(raw, " \t")
	for _, marker := range []Marker{Authority, Revoked} {
		if bytes.HasPrefix(text, []byte(marker)) {
			return marker
		}
	}
	return Plain
}

// Whole takes the line apart; ok is false where that cannot be done, as the client passes over it.
func (l Skimmed) Whole() (entry Entry, ok bool) {
	whole, err := parseLine(l.raw)
	if err != nil || whole == nil {
		return Entry{}, false
	}
	whole.File, whole.Line = l.File, l.Entry.Line
	return *whole, true
}

// Holds tells whether a key stands in the line, of which blob is how lines write it, without its type.
func (l Skimmed) Holds(blob []byte) bool { return bytes.Contains(l.raw, blob) }

// Blob is how lines write a key, without its type.
func Blob(key ssh.PublicKey) []byte { return []byte(base64.StdEncoding.EncodeToString(key.Marshal())) }
