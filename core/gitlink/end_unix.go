//go:build unix

package gitlink

import (
	"os"
	"syscall"
)

func askToEnd(p *os.Process) error { return p.Signal(syscall.SIGTERM) }
