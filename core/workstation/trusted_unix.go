//go:build unix

package workstation

import (
	"os"
	"path/filepath"
	"syscall"
)

// Trusted reports whether what is in a file was put there by the system's administrator or by this person: nobody else
// may write it, or change a folder on the way to it, be it by its name or behind symbolic links.
func (s *Station) Trusted(path string) bool {
	path, err := filepath.Abs(path)
	if err != nil {
		return false
	}
	behind, err := filepath.EvalSymlinks(path)
	return err == nil && s.trustedWay(path) && s.trustedWay(behind)
}

// trustedWay looks at a file and every folder above it.
func (s *Station) trustedWay(path string) bool {
	for place := path; ; place = filepath.Dir(place) {
		info, err := os.Stat(place)
		if err != nil {
			return false
		}
		owner, known := info.Sys().(*syscall.Stat_t)
		if !known || owner.Uid != 0 && int(owner.Uid) != s.UID {
			return false
		}
		// in a folder with the sticky bit, such as /tmp, nobody may replace what is another's
		if info.Mode().Perm()&0o022 != 0 && (!info.IsDir() || info.Mode()&os.ModeSticky == 0) {
			return false
		}
		if place == filepath.Dir(place) {
			return true
		}
	}
}
