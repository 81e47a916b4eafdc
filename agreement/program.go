package agreement

import (
	"os"
	"syscall"
)

// WriteProgram writes a file that is to be run at once. No process of ours begins meanwhile: it would hold the file
// open for writing until it starts its own program, and running the file would fail for as long ("Text file busy",
// ETXTBSY in execve(2)).
func WriteProgram(path string, text []byte, mode os.FileMode) error {
	syscall.ForkLock.RLock()
	defer syscall.ForkLock.RUnlock()
	return os.WriteFile(path, text, mode)
}
