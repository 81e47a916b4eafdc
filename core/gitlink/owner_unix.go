//go:build unix

package gitlink

import (
	"os"
	"syscall"
)

// isOwn tells whether a file belongs to a user.
func isOwn(path string, uid int) bool {
	info, err := os.Stat(path)
	if err != nil {
		return false
	}
	owner, ok := info.Sys().(*syscall.Stat_t)
	return ok && int(owner.Uid) == uid
}
