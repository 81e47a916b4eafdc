//go:build faults

package disk

import (
	"fmt"
	"os"
	"os/signal"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
)

// In a program that is built with the tag "faults", UNICRUX_FAULT says what happens at which change,
// counted from 1: "7 error", "7 full", "7 kill" or "7 interrupt". Each change is written to the file that
// UNICRUX_FAULT_LOG names.
func init() {
	number, what, _ := strings.Cut(os.Getenv("UNICRUX_FAULT"), " ")
	wanted, _ := strconv.Atoi(number)
	log := os.Getenv("UNICRUX_FAULT_LOG")
	if log == "" || len(os.Args) > 1 && os.Args[1] == "holder" { // a process of its own
		return
	}
	var count atomic.Int64
	before = func(call, path string) error {
		n := int(count.Add(1))
		if f, err := os.OpenFile(log, os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o600); err == nil {
			fmt.Fprintf(f, "%d %s %s\n", n, call, path)
			f.Close()
		}
		if n != wanted {
			return nil
		}
		switch what {
		case "error":
			return syscall.EIO
		case "full":
			return syscall.ENOSPC
		case "kill":
			syscall.Kill(os.Getpid(), syscall.SIGKILL)
			select {}
		case "interrupt":
			heard := make(chan os.Signal, 1)
			signal.Notify(heard, os.Interrupt)
			syscall.Kill(os.Getpid(), syscall.SIGINT)
			<-heard
		}
		return nil
	}
}
