//go:build !windows

package regular

import (
	"errors"
	"io/fs"
	"syscall"
)

// NoFollow makes opening a link an error (O_NOFOLLOW, open(2)).
const NoFollow = syscall.O_NOFOLLOW

// noWait opens a pipe that nobody writes to at once, so that it can be seen that it is one.
const noWait = syscall.O_NONBLOCK | syscall.O_CLOEXEC

// read asks the kernel itself: package os would first ask whether it can be told when there is something to read, and
// of many files that costs as much as reading them.
func read(path string, most int64, flags int) ([]byte, error) {
	fd, err := again(func() (int, error) { return syscall.Open(path, syscall.O_RDONLY|noWait|flags, 0) })
	if err != nil {
		return nil, &fs.PathError{Op: "open", Path: path, Err: err}
	}
	text, err := readAll(fd, path, most)
	return text, errors.Join(err, syscall.Close(fd))
}

func readAll(fd int, path string, most int64) ([]byte, error) {
	var info syscall.Stat_t
	if err := syscall.Fstat(fd, &info); err != nil {
		return nil, &fs.PathError{Op: "stat", Path: path, Err: err}
	}
	if info.Mode&syscall.S_IFMT != syscall.S_IFREG {
		return nil, &fs.PathError{Op: "read", Path: path, Err: ErrNot}
	}
	const least = 512 // files of /proc say that they are empty
	text := make([]byte, 0, max(least, min(info.Size, most)+1))
	for {
		n, err := again(func() (int, error) { return syscall.Read(fd, text[len(text):cap(text)]) })
		if err != nil {
			return nil, &fs.PathError{Op: "read", Path: path, Err: err}
		}
		text = text[:len(text)+n]
		switch {
		case int64(len(text)) > most:
			return nil, tooLarge(path, most)
		case n == 0, int64(len(text)) == info.Size && len(text) < cap(text):
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
