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

// Trusted reports whether what is in a file was put there by the system's administrator or by this person: nobody else
// may write it, or the folder that it is in.
func (p Person) Trusted(path string) bool {
	for _, place := range []string{path, folderOf(path)} {
		info, err := os.Stat(place)
		if err != nil || info.Mode().Perm()&0o022 != 0 {
			return false
		}
		owner, ok := info.Sys().(*syscall.Stat_t)
		if !ok || owner.Uid != 0 && int(owner.Uid) != p.UID {
			return false
		}
	}
	return true
}

// folderOf is the folder that a file is in. Package strings would need unicode, which is prepared after all of ours,
// and git would wait for that: see package atonce.
func folderOf(path string) string {
	end := len(path) - 1
	for end > 0 && path[end] != '/' {
		end--
	}
	return path[:max(1, end)]
}
