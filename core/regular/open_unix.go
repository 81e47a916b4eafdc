//go:build !windows

package regular

import "syscall"

// NoFollow makes opening a link an error (O_NOFOLLOW, open(2)).
const NoFollow = syscall.O_NOFOLLOW

// noWait opens a pipe that nobody writes to at once, so that it can be seen that it is one.
const noWait = syscall.O_NONBLOCK | syscall.O_CLOEXEC
