//go:build !windows

package regular

import (
	"errors"
	"io"
	"io/fs"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// NoFollow makes opening a link an error (O_NOFOLLOW, open(2)).
const NoFollow = syscall.O_NOFOLLOW

// noWait opens a pipe that nobody writes to at once, so that it can be seen that it is one.
const noWait = syscall.O_NONBLOCK | syscall.O_CLOEXEC

// A Reader is an open regular file that is read bit by bit. It asks the kernel itself: package os would first ask
// whether it can be told when there is something to read, and of many files that costs as much as reading them.
type Reader struct {
	fd   int
	path string
	info unix.Stat_t
}

// OpenReader opens a regular file, and waits for nobody. Links are followed.
func OpenReader(path string) (*Reader, error) { return openReader(path, 0) }

func openReader(path string, flags int) (*Reader, error) {
	fd, err := again(func() (int, error) { return syscall.Open(path, syscall.O_RDONLY|noWait|flags, 0) })
	if err != nil {
		return nil, &fs.PathError{Op: "open", Path: path, Err: err}
	}
	r := &Reader{fd: fd, path: path}
	err = unix.Fstat(fd, &r.info)
	if err == nil && r.info.Mode&unix.S_IFMT != unix.S_IFREG {
		err = ErrNot
	}
	if err != nil {
		return nil, &fs.PathError{Op: "read", Path: path, Err: errors.Join(err, r.Close())}
	}
	return r, nil
}

// Read reads what comes next; at the end the error is [io.EOF].
func (r *Reader) Read(into []byte) (int, error) {
	n, err := again(func() (int, error) { return syscall.Read(r.fd, into) })
	switch {
	case err != nil:
		return 0, &fs.PathError{Op: "read", Path: r.path, Err: err}
	case n == 0 && len(into) > 0:
		return 0, io.EOF
	}
	return n, nil
}

// Close closes the file.
func (r *Reader) Close() error { return syscall.Close(r.fd) }

// Mode is the file's permissions.
func (r *Reader) Mode() fs.FileMode { return fs.FileMode(r.info.Mode & 0o777) }

// Modified is when it was changed last.
func (r *Reader) Modified() time.Time { return time.Unix(r.info.Mtim.Unix()) }

func read(path string, most int64, flags int) ([]byte, error) {
	r, err := openReader(path, flags)
	if err != nil {
		return nil, err
	}
	text, err := r.all(most)
	return text, errors.Join(err, r.Close())
}

// all reads to the end of a file of at most so many bytes.
func (r *Reader) all(most int64) ([]byte, error) {
	const least = 512 // files of /proc say that they are empty
	text := make([]byte, 0, max(least, min(r.info.Size, most)+1))
	for {
		n, err := r.Read(text[len(text):cap(text)])
		text = text[:len(text)+n]
		switch {
		case err != nil && !errors.Is(err, io.EOF):
			return nil, err
		case int64(len(text)) > most:
			return nil, tooLarge(r.path, most)
		case err != nil, int64(len(text)) == r.info.Size && len(text) < cap(text):
			return text, nil
		case len(text) == cap(text):
			text = append(text, 0)[:len(text)]
		}
	}
}

// again repeats a call that a signal interrupted, as package os does.
func again(call func() (int, error)) (int, error) {
	for {
		n, err := call()
		if !errors.Is(err, syscall.EINTR) {
			return n, err
		}
	}
}
