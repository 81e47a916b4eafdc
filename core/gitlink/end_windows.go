package gitlink

import (
	"os"
	"os/exec"
)

func askToEnd(p *os.Process) error { return p.Kill() }

// withoutTerminal bounds how long what a program started is waited for.
func withoutTerminal(cmd *exec.Cmd) { cmd.WaitDelay = endPatience }
