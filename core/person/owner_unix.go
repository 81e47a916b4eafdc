//go:build unix

package person

import (
	"os"
	"syscall"
)

// Owns reports whether a file belongs to the person.
func (p Person) Owns(path string) bool {
	info, err := os.Stat(path)
	if err != nil {
		return false
	}
	owner, ok := info.Sys().(*syscall.Stat_t)
	return ok && int(owner.Uid) == p.UID
}
