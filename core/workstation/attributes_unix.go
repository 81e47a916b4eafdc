//go:build linux || darwin

package workstation

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"strings"

	"golang.org/x/sys/unix"

	"anchorage.example/unicrux/core/disk"
)

// keepAttributes gives f the extended attributes of the file it will replace, access lists among them
// (xattr(7), acl(5)); those by which the system marks every file it gives by itself. The error is
// [ErrAttributes] where one cannot be kept.
func keepAttributes(f *disk.File, path string) error {
	names, err := attributesOf(path)
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, unix.ENOTSUP) {
		return nil
	}
	for _, name := range names {
		if strings.HasPrefix(name, "security.") || strings.HasPrefix(name, "trusted.") {
			continue
		}
		var value []byte
		if value, err = attribute(path, name); err == nil {
			err = unix.Fsetxattr(int(f.Fd()), name, value, 0)
		}
		if err != nil {
			return fmt.Errorf("%s: %w: %s: %w", path, ErrAttributes, name, err)
		}
	}
	return err
}

func attributesOf(path string) ([]string, error) {
	size, err := unix.Listxattr(path, nil)
	if err != nil || size == 0 {
		return nil, err
	}
	list := make([]byte, size)
	if size, err = unix.Listxattr(path, list); err != nil {
		return nil, err
	}
	var names []string
	for _, name := range bytes.Split(bytes.TrimSuffix(list[:size], []byte{0}), []byte{0}) {
		names = append(names, string(name))
	}
	return names, nil
}

func attribute(path, name string) ([]byte, error) {
	size, err := unix.Getxattr(path, name, nil)
	if err != nil || size == 0 {
		return nil, err
	}
	value := make([]byte, size)
	size, err = unix.Getxattr(path, name, value)
	return value[:max(size, 0)], err
}
