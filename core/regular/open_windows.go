package regular

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"slices"
	"time"
)

// NoFollow does nothing: making links takes a right of its own.
const NoFollow = 0

const noWait = 0

// A Reader is an open regular file that is read bit by bit.
type Reader struct {
	f    *os.File
	info fs.FileInfo
}

// OpenReader opens a regular file. Links are followed.
func OpenReader(path string) (*Reader, error) {
	f, err := open(path, 0)
	if err != nil {
		return nil, err
	}
	info, err := f.Stat()
	return &Reader{f, info}, err
}

// Read reads what comes next; at the end the error is [io.EOF].
func (r *Reader) Read(into []byte) (int, error) { return r.f.Read(into) }

// Close closes the file.
func (r *Reader) Close() error { return r.f.Close() }

// Mode is the file's permissions.
func (r *Reader) Mode() fs.FileMode { return r.info.Mode().Perm() }

// Modified is when it was changed last.
func (r *Reader) Modified() time.Time { return r.info.ModTime() }

func read(path string, most int64, flags int) ([]byte, error) {
	f, err := open(path, flags)
	if err != nil {
		return nil, err
	}
	defer f.Close() // opened for reading
	text, err := io.ReadAll(io.LimitReader(f, most+1))
	if err == nil && int64(len(text)) > most {
		err = tooLarge(path, most)
	}
	if err != nil {
		return nil, err
	}
	return text, nil
}

// Names lists the names in a folder, in order, at most so many of them; more tells that there are others.
func Names(folder string, most int) (names []string, more bool, err error) {
	f, err := os.Open(folder)
	if err != nil {
		return nil, false, err
	}
	defer f.Close() // opened for reading
	names, err = f.Readdirnames(most + 1)
	if errors.Is(err, io.EOF) {
		err = nil
	}
	if more = len(names) > most; more {
		names = names[:most]
	}
	slices.Sort(names)
	return names, more, err
}
