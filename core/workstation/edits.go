package workstation

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"slices"

	"github.com/aymanbagabas/go-udiff"
)

// A Hunk is one place of a file that was changed.
type Hunk struct {
	At      int    `json:"at"`                // where it begins in the file as it was left, in bytes
	Removed []byte `json:"removed,omitempty"` // what was there before
	Added   []byte `json:"added,omitempty"`   // what is there since

	// The lines before and behind it, as marks by which the place is found again when the file was
	// edited elsewhere since. They are short, so that nobody learns from them what the lines are.
	Before string `json:"before,omitempty"`
	Behind string `json:"behind,omitempty"`
}

// hunksOf lists what leads from one content to another, line by line.
func hunksOf(before, after []byte) []Hunk {
	var hunks []Hunk
	shift := 0
	for _, e := range udiff.Lines(string(before), string(after)) {
		at := e.Start + shift
		hunks = append(hunks, Hunk{At: at, Removed: bytes.Clone(before[e.Start:e.End]), Added: []byte(e.New),
			Before: markBefore(after, at), Behind: markBehind(after, at+len(e.New))})
		shift += len(e.New) - (e.End - e.Start)
	}
	return hunks
}

// markBefore and markBehind mark the line that ends, or begins, at a place.
func markBefore(content []byte, at int) string {
	line := content[:at]
	return mark(line[bytes.LastIndexByte(bytes.TrimSuffix(line, []byte("\n")), '\n')+1:], at == 0)
}

func markBehind(content []byte, at int) string {
	line := content[at:]
	if end := bytes.IndexByte(line, '\n'); end >= 0 {
		line = line[:end+1]
	}
	return mark(line, at == len(content))
}

func mark(line []byte, edge bool) string {
	if edge {
		return "edge"
	}
	sum := sha256.Sum256(bytes.TrimRight(line, "\r\n"))
	return hex.EncodeToString(sum[:2])
}

// takenBack is the content without the hunks; ok is false where it is not as they left it.
func takenBack(content []byte, hunks []Hunk) (before []byte, ok bool) {
	before = bytes.Clone(content)
	for _, h := range slices.Backward(hunks) {
		end := h.At + len(h.Added)
		if h.At < 0 || end > len(before) || !bytes.Equal(before[h.At:end], h.Added) {
			return nil, false
		}
		before = slices.Concat(before[:h.At], h.Removed, before[end:])
	}
	return before, true
}

// takenOut is the content of a file that was edited since, without our lines: each hunk is taken out
// where it is found beyond doubt. ok is false where one is not.
func takenOut(content []byte, hunks []Hunk) (result []byte, ok bool) {
	result = bytes.Clone(content)
	for _, h := range slices.Backward(hunks) {
		at, found := h.find(result)
		if !found {
			return nil, false
		}
		result = slices.Concat(result[:at], h.Removed, result[at+len(h.Added):])
	}
	return result, true
}

// find finds the one place where a hunk is: the one around which most is as it was.
func (h Hunk) find(content []byte) (at int, found bool) {
	best, times := -1, 0
	for i := range lineStarts(content) {
		if !bytes.HasPrefix(content[i:], h.Added) {
			continue
		}
		fits := 0
		if markBefore(content, i) == h.Before {
			fits++
		}
		if markBehind(content, i+len(h.Added)) == h.Behind {
			fits++
		}
		if len(h.Added) == 0 && fits == 0 {
			continue
		}
		if fits > best {
			at, best, times = i, fits, 1
		} else if fits == best {
			times++
		}
	}
	return at, times == 1
}

// lineStarts goes through the places at which lines begin, the end included.
func lineStarts(content []byte) func(func(int) bool) {
	return func(yield func(int) bool) {
		for at := 0; at >= 0; {
			if !yield(at) {
				return
			}
			next := bytes.IndexByte(content[at:], '\n')
			if next < 0 {
				if at < len(content) {
					yield(len(content))
				}
				return
			}
			if at += next + 1; at == len(content) {
				yield(at)
				return
			}
		}
	}
}
