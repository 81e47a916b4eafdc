package workstation

import (
	"bytes"
	"slices"

	"github.com/aymanbagabas/go-udiff"
)

// An Edit is one place of a file that was changed.
type Edit struct {
	At      int    `json:"at"`                // where it begins in the file as it was left, in bytes
	Removed []byte `json:"removed,omitempty"` // what stood there before
	Added   []byte `json:"added,omitempty"`   // what stands there since
}

// editsOf lists what leads from one content to another, line by line.
func editsOf(before, after []byte) []Edit {
	var edits []Edit
	shift := 0
	for _, e := range udiff.Lines(string(before), string(after)) {
		edits = append(edits, Edit{At: e.Start + shift, Removed: bytes.Clone(before[e.Start:e.End]), Added: []byte(e.New)})
		shift += len(e.New) - (e.End - e.Start)
	}
	return edits
}

// takenBack is the content without the edits; ok is false where it is not as they left it.
func takenBack(content []byte, edits []Edit) (before []byte, ok bool) {
	before = bytes.Clone(content)
	for _, e := range slices.Backward(edits) {
		end := e.At + len(e.Added)
		if e.At < 0 || end > len(before) || !bytes.Equal(before[e.At:end], e.Added) {
			return nil, false
		}
		before = slices.Concat(before[:e.At], e.Removed, before[end:])
	}
	return before, true
}

// takenOut is the content of a file that was edited since, without our lines, each of which must be
// found once. It is for showing alone.
func takenOut(content []byte, edits []Edit) []byte {
	result := bytes.Clone(content)
	for _, e := range slices.Backward(edits) {
		if len(e.Added) == 0 || bytes.Count(result, e.Added) != 1 {
			return nil
		}
		result = bytes.Replace(result, e.Added, e.Removed, 1)
	}
	return result
}
