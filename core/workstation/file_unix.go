//go:build !windows

package workstation

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"syscall"

	"anchorage.example/unicrux/core/disk"
)

// keepOwner gives f the owner and the group of the file it will replace, or those of the folder it will
// be in: root at work in somebody's home leaves nothing there that they cannot read. The error is
// [ErrForeign] or [ErrLinked] for a file that would not be the same afterwards.
func keepOwner(f *disk.File, path string) error {
	info, err := os.Stat(path)
	if err != nil {
		if os.Geteuid() != 0 {
			return nil
		}
		if info, err = os.Stat(filepath.Dir(path)); err != nil {
			return err
		}
		owner := info.Sys().(*syscall.Stat_t)
		return f.Chown(int(owner.Uid), int(owner.Gid))
	}
	old := info.Sys().(*syscall.Stat_t)
	made, err := f.Stat()
	if err != nil {
		return err
	}
	mine := made.Sys().(*syscall.Stat_t)
	switch {
	case old.Nlink > 1:
		return fmt.Errorf("%s: %w", path, ErrLinked)
	case os.Geteuid() == 0:
		return f.Chown(int(old.Uid), int(old.Gid))
	case old.Uid != mine.Uid:
		return fmt.Errorf("%s: %w", path, ErrForeign)
	case old.Gid != mine.Gid:
		if err := f.Chown(-1, int(old.Gid)); err != nil {
			return fmt.Errorf("%s: %w: its group is %d", path, ErrForeign, old.Gid)
		}
	}
	return nil
}

// giveFolder gives a new folder the owner of the one it stands in.
func giveFolder(dir string) error {
	if os.Geteuid() != 0 {
		return nil
	}
	info, err := os.Stat(filepath.Dir(dir))
	if err != nil {
		return err
	}
	owner := info.Sys().(*syscall.Stat_t)
	return disk.Chown(dir, int(owner.Uid), int(owner.Gid))
}

// syncFolder makes a rename in dir survive a loss of power.
func syncFolder(dir string) error {
	err := disk.SyncFolder(dir)
	if errors.Is(err, syscall.EINVAL) { // some network file systems cannot, and need not
		err = nil
	}
	return err
}

// alive tells whether a process of this number is there.
func alive(pid int) bool {
	err := syscall.Kill(pid, 0)
	return err == nil || errors.Is(err, syscall.EPERM)
}
