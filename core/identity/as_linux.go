package identity

import (
	"os"
	"runtime"
	"unsafe"

	"golang.org/x/sys/unix"
)

// as changes by whose rights the kernel judges file access on this thread alone (setfsuid(2), setfsgid(2)); Go's own
// calls would change every thread. A thread that cannot be changed back ends with its goroutine.
func as(who Who, do func()) error {
	if who.UID == os.Geteuid() {
		do()
		return nil
	}
	if os.Geteuid() != 0 {
		return ErrUnable
	}
	runtime.LockOSThread()
	before, err := unix.Getgroups()
	if err != nil {
		return err
	}
	err = become(who, append([]int{who.GID}, who.Groups...))
	if err == nil {
		do()
	}
	if become(Who{UID: 0, GID: os.Getegid()}, before) == nil {
		runtime.UnlockOSThread()
	}
	return err
}

// become takes the rights of an account on this thread, with exactly these groups, and makes sure that it has them. The
// groups change while the thread still may change them.
func become(who Who, list []int) error {
	groups := make([]uint32, len(list), len(list)+1) // with an address even where there are none
	for i, g := range list {
		groups[i] = uint32(g) //nolint:gosec // a number of the kernel's
	}
	if _, _, errno := unix.RawSyscall(unix.SYS_SETGROUPS, uintptr(len(groups)),
		uintptr(unsafe.Pointer(unsafe.SliceData(groups))), 0); errno != 0 {
		return ErrUnable
	}
	const none = -1 // no account has this number: the call only tells who one is
	for _, set := range []struct {
		call func(int) (int, error)
		id   int
	}{{unix.SetfsgidRetGid, who.GID}, {unix.SetfsuidRetUid, who.UID}} {
		if _, err := set.call(set.id); err != nil {
			return ErrUnable
		}
		if now, err := set.call(none); err != nil || now != set.id {
			return ErrUnable
		}
	}
	return nil
}
