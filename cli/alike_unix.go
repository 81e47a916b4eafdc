//go:build unix

package cli

import (
	"os"
	"os/signal"
	"syscall"
)

// terminalName is the terminal of this process, wherever its input and output lead (tty(4)).
const terminalName = "/dev/tty"

// endAlike ends this process by the signal that ended another.
func endAlike(state *os.ProcessState) {
	status, ok := state.Sys().(syscall.WaitStatus)
	if !ok || !status.Signaled() {
		return
	}
	signal.Reset(status.Signal())
	_ = syscall.Kill(os.Getpid(), status.Signal())
	select {} // the signal is on its way
}
