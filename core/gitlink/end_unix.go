//go:build unix

package gitlink

import (
	"os"
	"os/exec"
	"syscall"
)

func askToEnd(p *os.Process) error { return p.Signal(syscall.SIGTERM) }

// withoutTerminal gives a program a session of its own, so that it cannot ask on the terminal, and ends all that
// it starts with it.
func withoutTerminal(cmd *exec.Cmd) {
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	cmd.Cancel, cmd.WaitDelay = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }, endPatience
}
