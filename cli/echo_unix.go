//go:build unix

package cli

import (
	"os"

	"golang.org/x/sys/unix"
)

// noEcho keeps a terminal from showing what is typed, until restore is called. It does nothing where in is no terminal,
// and in the background, where the system would stop whoever touches the terminal (termios(3), SIGTTOU).
func noEcho(in *os.File) (restore func()) {
	if in == nil {
		return func() {}
	}
	fd := int(in.Fd())
	before, err := unix.IoctlGetTermios(fd, getTermios)
	if err != nil || before.Lflag&unix.ECHO == 0 {
		return func() {}
	}
	if group, err := unix.IoctlGetInt(fd, unix.TIOCGPGRP); err != nil || group != unix.Getpgrp() {
		return func() {}
	}
	silent := *before
	silent.Lflag &^= unix.ECHO
	if err := unix.IoctlSetTermios(fd, setTermios, &silent); err != nil {
		return func() {}
	}
	set := func() { _ = unix.IoctlSetTermios(fd, setTermios, before) } // nothing is left to do about it
	silentTerminal.Store(&set)
	return func() {
		silentTerminal.Store(nil)
		set()
	}
}
