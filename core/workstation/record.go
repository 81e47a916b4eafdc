package workstation

import (
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"index/suffixarray"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"anchorage.example/unicrux/core/fault"
	"anchorage.example/unicrux/core/redact"
	"anchorage.example/unicrux/core/regular"
)

// recordVersion is that of the files of the record. One with a higher version is left as it is.
const recordVersion = 1

// A Change is what one command changed, here or at a host, as it is kept in the record.
type Change struct {
	Version int `json:"version"` // of the file; 0 for those that hold whole files

	ID      int        `json:"id"`               // counts from 1; what undo takes
	When    time.Time  `json:"when"`             // UTC
	Summary string     `json:"words"`            // what the command was about, as one sentence
	Steps   []Step     `json:"steps"`            // in the order in which they were taken
	Undone  *time.Time `json:"undone,omitempty"` // when it was taken back
	Hosts   []string   `json:"hosts,omitempty"`  // that it was for, by the names they have here

	// About says what a long command was at, so that it can go on where it was cut short.
	About map[string]string `json:"about,omitempty"`

	// Unread is why the file of this change could not be read: then nothing but its number and the
	// time of that file is known, and it cannot be taken back.
	Unread error `json:"-"`
}

// Concerns reports whether a change was for a host, or for an account there, of any of the names.
func (c Change) Concerns(names ...string) bool {
	about := slices.Clone(c.Hosts)
	for _, step := range c.Steps {
		if step.Host != nil {
			about = append(about, step.Host.Host)
		}
	}
	return slices.ContainsFunc(about, func(host string) bool {
		_, at, _ := strings.Cut(host, "@")
		return slices.Contains(names, host) || at != "" && slices.Contains(names, at)
	})
}

// A Step is one edit of a file or one act at a host. Exactly one of File and Host is set.
type Step struct {
	Summary string    `json:"words"` // what it did, as one sentence
	Done    bool      `json:"done"`  // false only while it is under way, or when it was cut short
	File    *FileStep `json:"file,omitempty"`
	Host    *HostStep `json:"host,omitempty"`
}

// A FileStep says what was changed in a file: the edit, never the file. An edit in which a secret
// stands is not recorded.
type FileStep struct {
	Path    string   `json:"path"`              // where the content is, links followed
	Before  *Content `json:"before,omitempty"`  // nil when there was no file
	After   Content  `json:"after"`             // as it was left
	Edits   []Hunk   `json:"edits,omitempty"`   // from before to after, in the order of the lines
	Gone    bool     `json:"gone,omitempty"`    // the file was removed, and After is empty
	Folders []string `json:"folders,omitempty"` // folders made for it, outermost first
	Secret  bool     `json:"secret,omitempty"`  // a secret stands in the edit, so there are no Edits
	Aside   string   `json:"aside,omitempty"`   // where a secret file was moved to
}

// notText begins how a path is written in the record that is not UTF-8, as file names may be and JSON
// may not (RFC 8259, section 8.1). Paths are absolute, so none begins so itself.
const notText = "base64:"

func pathText(path string) string {
	if utf8.ValidString(path) {
		return path
	}
	return notText + base64.StdEncoding.EncodeToString([]byte(path))
}

func pathOf(text string) (string, error) {
	coded, found := strings.CutPrefix(text, notText)
	if !found {
		return text, nil
	}
	path, err := base64.StdEncoding.DecodeString(coded)
	return string(path), err
}

// plainStep is a [FileStep] as it is in the record.
type plainStep FileStep

// MarshalJSON writes paths that are not UTF-8 so that they are read as they were.
func (f *FileStep) MarshalJSON() ([]byte, error) {
	plain := plainStep(*f)
	plain.Path, plain.Aside, plain.Folders = pathText(f.Path), pathText(f.Aside), nil
	for _, folder := range f.Folders {
		plain.Folders = append(plain.Folders, pathText(folder))
	}
	return json.Marshal(plain)
}

// UnmarshalJSON reads what [FileStep.MarshalJSON] wrote.
func (f *FileStep) UnmarshalJSON(text []byte) (err error) {
	if err := json.Unmarshal(text, (*plainStep)(f)); err != nil {
		return err
	}
	paths := []*string{&f.Path, &f.Aside}
	for i := range f.Folders {
		paths = append(paths, &f.Folders[i])
	}
	for _, path := range paths {
		plain, pathErr := pathOf(*path)
		*path, err = plain, errors.Join(err, pathErr)
	}
	return err
}

// Content is the mark by which a file's content is known again.
type Content struct {
	Mode fs.FileMode `json:"mode"`
	Sum  string      `json:"sha256"`
	// Bytes are in records of version 0 alone: the whole file, which may hold anybody's secrets.
	Bytes []byte `json:"bytes,omitempty"`
}

// A HostStep is an act at a host, with what is needed to take it back.
type HostStep struct {
	Host string            `json:"host"`
	Act  string            `json:"act"`
	Data map[string]string `json:"data"`
}

// record keeps the edit, unless a secret stands in it.
func (f *FileStep) record(before, after []byte) {
	edits := hunksOf(before, after)
	for _, e := range edits {
		if redact.In(e.Removed) || redact.In(e.Added) {
			f.Secret = true
			return
		}
	}
	f.Edits = edits
}

// Reasons for which a file of the record is not read, for errors.Is.
var (
	// ErrUnreadable is returned for a file of the record that is damaged.
	ErrUnreadable = fault.New("file-unreadable", fault.Failed, "this file of the record is damaged")
	// ErrNewer is returned for a file that a newer version of Unicrux wrote. It is left as it is.
	ErrNewer = fault.New("file-newer", fault.Failed, "a newer version of Unicrux wrote this file")
)

// maxRecord bounds a file of the record.
const maxRecord = 64 << 20

func sum(content []byte) string {
	digest := sha256.Sum256(content)
	return hex.EncodeToString(digest[:])
}

func (s *Station) recordFolder() string { return filepath.Join(s.State, "changes") }

func (s *Station) recordPath(id int) string {
	return filepath.Join(s.recordFolder(), fmt.Sprintf("%06d.json", id))
}

// Changes returns the record, oldest first. A file in it that cannot be read stands there as a change
// of which that is said: it costs nothing but itself.
func (s *Station) Changes() ([]Change, error) {
	entries, err := os.ReadDir(s.recordFolder())
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var all []Change
	for _, entry := range entries {
		id := recordNumber(entry.Name())
		if id == 0 {
			continue
		}
		change, err := readRecord(s.recordPath(id))
		if errors.Is(err, fs.ErrNotExist) { // it was given up just now
			continue
		}
		if err != nil {
			change = Change{ID: id, Unread: err}
			if info, err := entry.Info(); err == nil {
				change.When = info.ModTime()
			}
		}
		all = append(all, change)
	}
	return all, nil
}

// recordNumber is the number of the change in a file of the record; 0 for another file.
func recordNumber(name string) int {
	digits, found := strings.CutSuffix(name, ".json")
	id, err := strconv.Atoi(digits)
	if !found || err != nil || name != fmt.Sprintf("%06d.json", id) {
		return 0
	}
	return id
}

func readRecord(path string) (Change, error) {
	text, err := regular.ReadOwn(path, maxRecord)
	if err != nil {
		return Change{}, err
	}
	var change Change
	err = json.Unmarshal(text, &change)
	for name, value := range change.About {
		plain, pathErr := pathOf(value)
		change.About[name], err = plain, errors.Join(err, pathErr)
	}
	switch {
	case change.Version > recordVersion:
		return Change{}, fmt.Errorf("%s: %w", path, ErrNewer)
	case err != nil || change.ID != recordNumber(filepath.Base(path)) || !change.isWhole():
		return Change{}, fmt.Errorf("%s: %w", path, ErrUnreadable)
	}
	return change, nil
}

// isWhole tells whether each step is of a kind that is known here.
func (c Change) isWhole() bool {
	return !slices.ContainsFunc(c.Steps, func(step Step) bool { return (step.File == nil) == (step.Host == nil) })
}

func (s *Station) writeRecord(change *Change) error {
	text, err := json.MarshalIndent(change, "", "  ")
	if err != nil {
		return err
	}
	return AsOwner(s.State, func() error {
		if _, err := makeFolder(s.recordFolder()); err != nil {
			return err
		}
		return replace(s.recordPath(change.ID), append(text, '\n'), 0o600)
	})
}

// nextID returns the number for a new change. The caller holds the lock.
func (s *Station) nextID() (int, error) {
	entries, err := os.ReadDir(s.recordFolder())
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return 0, err
	}
	last := 0
	for _, entry := range entries {
		last = max(last, recordNumber(entry.Name()))
	}
	return last + 1, nil
}

// Sweep takes secrets that were found lying about out of the record: the edits in which one of them
// stands, and whole files that older versions of Unicrux recorded. It returns how many changes
// cannot be taken back any more because of that.
func (s *Station) Sweep(secrets [][]byte) (swept int, err error) {
	err = s.whileLocked(func() error {
		done, err := MayLeave(s.State, Leaving{Beside: []string{s.recordFolder()}})
		if err != nil {
			return err
		}
		defer done()
		all, err := s.Changes()
		if err != nil {
			return err
		}
		for _, change := range all {
			if change.Unread != nil || !change.sweep(secrets) {
				continue
			}
			swept++
			if err := s.writeRecord(&change); err != nil {
				return err
			}
		}
		return nil
	})
	return swept, err
}

// sweep tells whether anything was taken out.
func (c *Change) sweep(secrets [][]byte) bool {
	found := false
	for _, step := range c.Steps {
		f := step.File
		if f == nil || f.Secret {
			continue
		}
		texts := [][]byte{}
		for _, e := range f.Edits {
			texts = append(texts, e.Removed, e.Added)
		}
		if f.Before != nil {
			texts = append(texts, f.Before.Bytes)
		}
		if slices.ContainsFunc(texts, func(text []byte) bool { return redact.In(text) || holdsAny(text, secrets) }) {
			f.Secret, f.Edits, found = true, nil, true
			if f.Before != nil {
				f.Before.Bytes = nil
			}
		}
	}
	return found
}

// holdsAny looks for many secrets in a text that may be long.
func holdsAny(text []byte, secrets [][]byte) bool {
	index := suffixarray.New(text)
	return slices.ContainsFunc(secrets, func(s []byte) bool { return len(s) > 0 && len(index.Lookup(s, 1)) > 0 })
}
