// Package regular reads files that are files. A pipe that nobody writes to, a device, or a file
// without end in the place of a file of settings must not keep anybody waiting, or fill the memory.
package regular

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
)

// Reasons for which a file is not read, for errors.Is. Each comes wrapped in an [fs.PathError].
var (
	ErrNot      = errors.New("not a regular file")
	ErrTooLarge = errors.New("too large for such a file")
)

// Settings bounds files of settings, of whatever program.
const Settings = 4 << 20

// Open opens a regular file for reading, and waits for nobody. Links are followed.
func Open(path string) (*os.File, error) { return open(path, 0) }

// OpenStream opens what a person names to be read once: a file, or a pipe that a shell made for it
// ("<(command)"). A pipe that nobody writes to is at its end at once. Devices have no end.
func OpenStream(path string) (*os.File, error) {
	f, err := os.OpenFile(path, os.O_RDONLY|noWait, 0)
	if err != nil {
		return nil, err
	}
	info, err := f.Stat()
	if err == nil && !info.Mode().IsRegular() && info.Mode().Type() != fs.ModeNamedPipe {
		err = &fs.PathError{Op: "read", Path: path, Err: ErrNot}
	}
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}

// Read reads a regular file of at most so many bytes. Links are followed.
func Read(path string, most int64) ([]byte, error) { return read(path, most, 0) }

// ReadOwn reads one of our own files: it is no link.
func ReadOwn(path string, most int64) ([]byte, error) { return read(path, most, NoFollow) }

func open(path string, flags int) (*os.File, error) {
	f, err := os.OpenFile(path, os.O_RDONLY|noWait|flags, 0)
	if err != nil {
		return nil, err
	}
	info, err := f.Stat()
	if err == nil && !info.Mode().IsRegular() {
		err = &fs.PathError{Op: "read", Path: path, Err: ErrNot}
	}
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}

// tooLarge is the error for a file of more than so many bytes.
func tooLarge(path string, most int64) error {
	return &fs.PathError{Op: "read", Path: path, Err: fmt.Errorf("%w (%d bytes)", ErrTooLarge, most)}
}
