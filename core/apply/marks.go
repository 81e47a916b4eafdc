package apply

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"

	"anchorage.example/unicrux/core/regular"
	"anchorage.example/unicrux/core/workstation"
)

// A mark tells how a file was left: for [Deviations], and so that a later state knows what an earlier one put there.
type mark struct {
	Part   Part   `json:"part"`
	Path   string `json:"path"`
	SHA256 string `json:"sha256"` // of the file, or of our lines in a file of others
}

// marksFile is how marks are kept.
type marksFile struct {
	Version int    `json:"unicrux"`
	Files   []mark `json:"files"`
}

// marksVersion is the version of the file that this program writes.
const marksVersion = 1

func writeMarks(marks []mark) []byte {
	text, err := json.MarshalIndent(marksFile{marksVersion, marks}, "", "  ")
	if err != nil {
		panic(err) // texts and numbers can always be written
	}
	return append(text, '\n')
}

// readMarks reads them; none where nothing was applied. The error wraps [workstation.ErrNewer] where a newer version of
// Unicrux wrote them, or [workstation.ErrUnreadable].
func readMarks(p Places) ([]mark, error) {
	text, err := readOf(p.marks())
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var file marksFile
	switch err := json.Unmarshal(text, &file); {
	case err != nil || file.Version < 1:
		return nil, fmt.Errorf("%s: %w", p.marks(), workstation.ErrUnreadable)
	case file.Version > marksVersion:
		return nil, fmt.Errorf("%s: %w", p.marks(), workstation.ErrNewer)
	}
	return file.Files, nil
}

// mostHostKeys bounds the file of a machine's host keys.
const mostHostKeys = 32 << 20

func readOf(path string) ([]byte, error) { return regular.Read(path, mostHostKeys) }

func hashOf(text []byte) string {
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:])
}
