package workstation

import (
	"fmt"
	"os"
	"path/filepath"
	"syscall"
)

// AsOwner does something to a path, unless links lead root from somebody's folder to a file that is
// not theirs. The system has no file identity of a thread, so that is looked at before.
func AsOwner(path string, work func() error) error {
	if os.Geteuid() != 0 {
		return work()
	}
	path = filepath.Clean(path)
	for i := 1; i <= len(path); i++ {
		if i < len(path) && path[i] != filepath.Separator {
			continue
		}
		info, err := os.Lstat(path[:i])
		if err != nil {
			break
		}
		owner := info.Sys().(*syscall.Stat_t).Uid
		if owner == 0 {
			continue
		}
		real, err := filepath.EvalSymlinks(path)
		if err != nil { // the last part need not exist
			real, err = filepath.EvalSymlinks(filepath.Dir(path))
		}
		if there, statErr := os.Lstat(real); err == nil && statErr == nil &&
			there.Sys().(*syscall.Stat_t).Uid != owner {
			return fmt.Errorf("%s links to %s, which belongs to another user", path, real)
		}
		break
	}
	return work()
}
