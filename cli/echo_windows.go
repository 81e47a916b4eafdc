package cli

import (
	"os"

	"golang.org/x/sys/windows"
)

// noEcho keeps a console from showing what is typed, until restore is called.
func noEcho(in *os.File) (restore func()) {
	nothing := func() {}
	if in == nil {
		return nothing
	}
	var before uint32
	handle := windows.Handle(in.Fd())
	if windows.GetConsoleMode(handle, &before) != nil ||
		windows.SetConsoleMode(handle, before&^windows.ENABLE_ECHO_INPUT) != nil {
		return nothing
	}
	set := func() { _ = windows.SetConsoleMode(handle, before) } // nothing is left to do about it
	silentTerminal.Store(&set)
	return func() {
		silentTerminal.Store(nil)
		set()
	}
}
