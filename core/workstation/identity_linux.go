package workstation

import (
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"syscall"
	"unsafe"
)

// AsOwner does something to a path as whoever it belongs to. Root at work in somebody's home (by
// sudo, say, which keeps it) would be led anywhere by links that stand there, and would leave files
// that their owner cannot change. So the file identity of the thread is switched to the owner
// (setfsuid(2)), and the kernel itself refuses what they could not do. For everybody but root it is
// as if it were not there.
func AsOwner(path string, work func() error) error {
	owner, foreign := ownerOf(path)
	if !foreign || fileUser() != 0 { // inside another AsOwner the identity stays as it is
		return work()
	}
	runtime.LockOSThread()
	groups, err := syscall.Getgroups()
	if err != nil {
		runtime.UnlockOSThread()
		return err
	}
	defer func() {
		setFileUser(0, 0)
		if setThreadGroups(groups) == nil && fileUser() == 0 {
			runtime.UnlockOSThread()
		} // else the thread ends with its goroutine, and nobody else gets it
	}()
	if err := setThreadGroups(nil); err != nil {
		return err
	}
	if setFileUser(owner.Uid, owner.Gid); fileUser() != int(owner.Uid) {
		return fmt.Errorf("%s belongs to another user, and the system does not let Unicrux act as that user", path)
	}
	return work()
}

// ownerOf finds the first folder on the way to a path that is not root's: below it everything is its
// owner's. foreign is false where there is none, and for everybody but root.
func ownerOf(path string) (owner syscall.Stat_t, foreign bool) {
	if os.Geteuid() != 0 {
		return owner, false
	}
	path = filepath.Clean(path)
	for i := 1; i <= len(path); i++ {
		if i < len(path) && path[i] != filepath.Separator {
			continue
		}
		info, err := os.Lstat(path[:i])
		if err != nil {
			return owner, false // nothing is there yet, below folders of root's
		}
		if stat, ok := info.Sys().(*syscall.Stat_t); ok && stat.Uid != 0 {
			return *stat, true
		}
	}
	return owner, false
}

// fileUser is the file identity of this thread.
func fileUser() int {
	const none = ^uintptr(0) // no user, so nothing changes
	now, _, _ := syscall.RawSyscall(syscall.SYS_SETFSUID, none, 0, 0)
	return int(now)
}

// setFileUser switches it; whether that worked, [fileUser] tells.
func setFileUser(uid, gid uint32) {
	_, _, _ = syscall.RawSyscall(syscall.SYS_SETFSGID, uintptr(gid), 0, 0)
	_, _, _ = syscall.RawSyscall(syscall.SYS_SETFSUID, uintptr(uid), 0, 0)
}

// setThreadGroups sets the further groups of this thread alone (setgroups(2)): package syscall would
// set those of the whole process.
func setThreadGroups(groups []int) error {
	list := make([]uint32, len(groups)+1) // never empty, so that it has an address
	for i, g := range groups {
		list[i] = uint32(g)
	}
	_, _, failed := syscall.RawSyscall(syscall.SYS_SETGROUPS, uintptr(len(groups)),
		uintptr(unsafe.Pointer(&list[0])), 0)
	if failed != 0 {
		return failed
	}
	return nil
}
