package gitlink

import (
	"os/exec"
	"syscall"
)

// endWithUs lets a process be asked to end when this one is killed.
func endWithUs(cmd *exec.Cmd) { cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM} }
