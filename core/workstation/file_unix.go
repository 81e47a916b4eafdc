//go:build !windows

package workstation

import (
	"errors"
	"os"
	"path/filepath"
	"syscall"
)

// keepOwner gives f the owner of the file it will replace, or of the folder it will
// stand in: root at work in somebody's home leaves nothing there that they cannot read.
func keepOwner(f *os.File, path string) error {
	if os.Geteuid() != 0 {
		return nil
	}
	info, err := os.Stat(path)
	if err != nil {
		if info, err = os.Stat(filepath.Dir(path)); err != nil {
			return err
		}
	}
	owner := info.Sys().(*syscall.Stat_t)
	return f.Chown(int(owner.Uid), int(owner.Gid))
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
	return os.Chown(dir, int(owner.Uid), int(owner.Gid))
}

// syncFolder makes a rename in dir survive a loss of power.
func syncFolder(dir string) error {
	f, err := os.Open(dir)
	if err != nil {
		return err
	}
	err = f.Sync()
	if errors.Is(err, syscall.EINVAL) { // some network file systems cannot, and need not
		err = nil
	}
	return errors.Join(err, f.Close())
}

// alive tells whether a process of this number is there.
func alive(pid int) bool {
	err := syscall.Kill(pid, 0)
	return err == nil || errors.Is(err, syscall.EPERM)
}
