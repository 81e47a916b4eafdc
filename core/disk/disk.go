// Package disk is the one way in which Unicrux changes files and folders. Its functions are those of
// package os; what they add is that tests can let each call fail, or end the program at it (make faults).
// That nothing is lost then, nothing is half done, and every run can go on is shown so for every call.
package disk

import (
	"errors"
	"io/fs"
	"os"
)

// before is called before each change; its error becomes that of the call. It is nil in the program that
// people use.
var before func(call, path string) error

// Watch tells of each change from now on, before it is made, until it is told to stop: for tests, of which one alone
// may run then. The calls are named as in the errors of package os, and by "write", "sync" and "close" for a file.
func Watch(see func(call, path string)) (stop func()) {
	was := before
	before = func(call, path string) error {
		see(call, path)
		return nil
	}
	return func() { before = was }
}

func at(call, path string, change func() error) error {
	if before != nil {
		if err := before(call, path); err != nil {
			return &fs.PathError{Op: call, Path: path, Err: err}
		}
	}
	return change()
}

// Rename is [os.Rename].
func Rename(from, to string) error {
	return at("rename", to, func() error { return os.Rename(from, to) })
}

// Link is [os.Link].
func Link(from, to string) error {
	return at("link", to, func() error { return os.Link(from, to) })
}

// Remove is [os.Remove].
func Remove(path string) error { return at("remove", path, func() error { return os.Remove(path) }) }

// RemoveAll is [os.RemoveAll].
func RemoveAll(path string) error {
	return at("remove", path, func() error { return os.RemoveAll(path) })
}

// Mkdir is [os.Mkdir].
func Mkdir(path string, mode fs.FileMode) error {
	return at("mkdir", path, func() error { return os.Mkdir(path, mode) })
}

// MkdirAll is [os.MkdirAll].
func MkdirAll(path string, mode fs.FileMode) error {
	if info, err := os.Stat(path); err == nil && info.IsDir() { // nothing is changed
		return nil
	}
	return at("mkdir", path, func() error { return os.MkdirAll(path, mode) })
}

// MkdirTemp is [os.MkdirTemp].
func MkdirTemp(dir, pattern string) (path string, err error) {
	err = at("mkdir", dir, func() error {
		path, err = os.MkdirTemp(dir, pattern)
		return err
	})
	return path, err
}

// Chmod is [os.Chmod].
func Chmod(path string, mode fs.FileMode) error {
	return at("chmod", path, func() error { return os.Chmod(path, mode) })
}

// Chown is [os.Chown].
func Chown(path string, uid, gid int) error {
	return at("chown", path, func() error { return os.Chown(path, uid, gid) })
}

// A File is one that is open for writing.
type File struct{ *os.File }

// OpenFile is [os.OpenFile].
func OpenFile(path string, flags int, mode fs.FileMode) (*File, error) {
	var f *os.File
	err := at("open", path, func() (err error) {
		f, err = os.OpenFile(path, flags, mode)
		return err
	})
	if err != nil {
		return nil, err
	}
	return &File{f}, nil
}

// Write is [os.File.Write]. A fault leaves half of it.
func (f *File) Write(content []byte) (n int, err error) {
	err = at("write", f.Name(), func() error {
		n, err = f.File.Write(content)
		return err
	})
	if err != nil && n == 0 {
		n, _ = f.File.Write(content[:len(content)/2])
	}
	return n, err
}

// Sync is [os.File.Sync].
func (f *File) Sync() error { return at("sync", f.Name(), f.File.Sync) }

// Chmod is [os.File.Chmod].
func (f *File) Chmod(mode fs.FileMode) error {
	return at("chmod", f.Name(), func() error { return f.File.Chmod(mode) })
}

// Chown is [os.File.Chown].
func (f *File) Chown(uid, gid int) error {
	return at("chown", f.Name(), func() error { return f.File.Chown(uid, gid) })
}

// Close is [os.File.Close]. After a fault the file is closed all the same.
func (f *File) Close() error {
	err := f.File.Close()
	return errors.Join(err, at("close", f.Name(), func() error { return nil }))
}

// WriteFile is [os.WriteFile].
func WriteFile(path string, content []byte, mode fs.FileMode) error {
	f, err := OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, mode)
	if err != nil {
		return err
	}
	_, err = f.Write(content)
	return errors.Join(err, f.Close())
}

// SyncFolder makes what was renamed in a folder survive a loss of power.
func SyncFolder(path string) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	return errors.Join(at("sync", path, f.Sync), f.Close())
}
