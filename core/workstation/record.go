package workstation

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"
)

// A Change is what one command changed, here or at a host, as it is kept in the record.
type Change struct {
	ID     int        `json:"id"`               // counts from 1; what undo takes
	When   time.Time  `json:"when"`             // UTC
	Words  string     `json:"words"`            // what the command was about, as one sentence
	Steps  []Step     `json:"steps"`            // in the order in which they were taken
	Undone *time.Time `json:"undone,omitempty"` // when it was taken back

	// About says what a long command was at, so that it can go on where it was cut short.
	About map[string]string `json:"about,omitempty"`
}

// A Step is one edit of a file or one act at a host. Exactly one of File and Host is set.
type Step struct {
	Words string    `json:"words"` // what it did, as one sentence
	Done  bool      `json:"done"`  // false only while it is under way, or when it was cut short
	File  *FileStep `json:"file,omitempty"`
	Host  *HostStep `json:"host,omitempty"`
}

// A FileStep says what stood in a file before and what stands there since. The content
// of a file that holds a secret is never recorded.
type FileStep struct {
	Path    string   `json:"path"`              // where the content is, links followed
	Before  *Content `json:"before,omitempty"`  // nil when there was no file
	After   Content  `json:"after"`             // its Bytes are left out: the file has them
	Gone    bool     `json:"gone,omitempty"`    // the file was removed, and After is empty
	Folders []string `json:"folders,omitempty"` // folders made for it, outermost first
	Secret  bool     `json:"secret,omitempty"`  // holds a secret, so Before has no Bytes
	Aside   string   `json:"aside,omitempty"`   // where a secret file was moved to
}

// Content is a file's content, or only the mark by which it is known again.
type Content struct {
	Mode  fs.FileMode `json:"mode"`
	Sum   string      `json:"sha256"`
	Bytes []byte      `json:"bytes,omitempty"`
}

// A HostStep is an act at a host, with what is needed to take it back.
type HostStep struct {
	Host string            `json:"host"`
	Act  string            `json:"act"`
	Data map[string]string `json:"data"`
}

// errUnreadable is returned for a record that is not ours or is damaged.
var errUnreadable = errors.New("the record of this change cannot be read")

func sum(content []byte) string {
	digest := sha256.Sum256(content)
	return hex.EncodeToString(digest[:])
}

func (s *Station) recordFolder() string { return filepath.Join(s.State, "changes") }

func (s *Station) recordPath(id int) string {
	return filepath.Join(s.recordFolder(), fmt.Sprintf("%06d.json", id))
}

// Changes returns the record, oldest first. A file that cannot be read is reported in
// the error, and the others are returned all the same.
func (s *Station) Changes() ([]Change, error) {
	entries, err := os.ReadDir(s.recordFolder())
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var all []Change
	var problems []error
	for _, entry := range entries {
		if !strings.HasSuffix(entry.Name(), ".json") {
			continue
		}
		change, err := readRecord(filepath.Join(s.recordFolder(), entry.Name()))
		if err != nil {
			problems = append(problems, err)
			continue
		}
		all = append(all, change)
	}
	return all, errors.Join(problems...)
}

func readRecord(path string) (Change, error) {
	text, err := os.ReadFile(path)
	if err != nil {
		return Change{}, err
	}
	var change Change
	if err := json.Unmarshal(text, &change); err != nil || change.ID < 1 {
		return Change{}, fmt.Errorf("%s: %w", path, errUnreadable)
	}
	return change, nil
}

func (s *Station) writeRecord(change *Change) error {
	text, err := json.MarshalIndent(change, "", "  ")
	if err != nil {
		return err
	}
	if _, err := makeFolder(s.recordFolder()); err != nil {
		return err
	}
	return replace(s.recordPath(change.ID), append(text, '\n'), 0o600)
}

// nextID returns the number for a new change. The caller holds the lock.
func (s *Station) nextID() (int, error) {
	entries, err := os.ReadDir(s.recordFolder())
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return 0, err
	}
	last := 0
	for _, entry := range entries {
		var id int
		if _, err := fmt.Sscanf(entry.Name(), "%06d.json", &id); err == nil {
			last = max(last, id)
		}
	}
	return last + 1, nil
}
