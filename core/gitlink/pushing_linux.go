package gitlink

import (
	"bytes"
	"os"
	"strconv"
)

// mostParents bounds how far up a push is looked for: git starts the program for HTTPS, that
// starts a shell, and the shell a helper.
const mostParents = 6

// Pushing tells whether this process works for a git push. git does not tell a helper what it
// asks for; its own command line does (proc(5)).
func Pushing() bool {
	pid := os.Getppid()
	for range mostParents {
		if pid <= 1 {
			return false
		}
		folder := "/proc/" + strconv.Itoa(pid)
		if line, err := os.ReadFile(folder + "/cmdline"); err != nil || isPush(bytes.Split(line, []byte{0})) {
			return err == nil
		}
		stat, err := os.ReadFile(folder + "/stat")
		if err != nil {
			return false
		}
		pid = parentIn(stat)
	}
	return false
}

// parentIn reads the number of the parent from what stands in a process's stat: behind the name
// in parentheses, which may hold anything, and the state. It is 0 where there is none.
func parentIn(stat []byte) int {
	fields := bytes.Fields(stat[bytes.LastIndexByte(stat, ')')+1:])
	if len(fields) < 2 {
		return 0
	}
	pid, _ := strconv.Atoi(string(fields[1])) // what is no number is no process
	return pid
}
