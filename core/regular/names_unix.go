//go:build !windows

package regular

import (
	"errors"
	"io/fs"
	"slices"
	"syscall"

	"golang.org/x/sys/unix"
)

// Names lists the names in a folder, in order, at most so many of them; more tells that there are others.
func Names(folder string, most int) (names []string, more bool, err error) {
	const how = syscall.O_RDONLY | syscall.O_DIRECTORY | noWait
	fd, err := again(func() (int, error) { return syscall.Open(folder, how, 0) })
	if err != nil {
		return nil, false, &fs.PathError{Op: "open", Path: folder, Err: err}
	}
	buffer := make([]byte, 4<<10)
	for len(names) <= most {
		n, err := again(func() (int, error) { return unix.ReadDirent(fd, buffer) })
		if err != nil {
			return nil, false, errors.Join(&fs.PathError{Op: "read", Path: folder, Err: err}, syscall.Close(fd))
		}
		if n <= 0 {
			break
		}
		_, _, names = unix.ParseDirent(buffer[:n], -1, names)
	}
	if more = len(names) > most; more {
		names = names[:most]
	}
	slices.Sort(names)
	return names, more, syscall.Close(fd)
}
