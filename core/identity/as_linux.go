package identity

import (
	"os"
	"runtime"
	"unsafe"

	"golang.org/x/sys/unix"
)

// A thread is one on which the kernel judges file access by whose rights we say (setfsuid(2), setfsgid(2)); Go's own
// calls would change every thread.
type thread struct {
	mine   Who   // the rights of this process
	groups []int // its further groups, as they are
	ours   bool  // it has those rights now
	err    error // its groups could not be read
}

func begin() *thread {
	runtime.LockOSThread()
	t := &thread{mine: Who{UID: os.Geteuid(), GID: os.Getegid()}, ours: true}
	t.groups, t.err = unix.Getgroups()
	return t
}

// as takes the rights of an account, and leaves those that it had.
func (t *thread) as(who Who) error {
	switch {
	case who.UID == t.mine.UID && t.ours:
		return nil
	case who.UID == t.mine.UID:
		return t.back()
	case t.mine.UID != 0 || t.err != nil:
		return ErrUnable
	}
	t.ours = false
	return become(who, append([]int{who.GID}, who.Groups...))
}

func (t *thread) back() error {
	err := become(t.mine, t.groups)
	t.ours = err == nil
	return err
}

// end gives the thread back. One that cannot be changed back ends with its goroutine, and nobody else gets it.
func (t *thread) end() {
	if t.ours || t.back() == nil {
		runtime.UnlockOSThread()
	}
}

// become takes the rights of an account on this thread, with exactly these groups, and makes sure that it has them. The
// groups change while the thread still may change them: whoever was root keeps that right, whose files it reads.
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
