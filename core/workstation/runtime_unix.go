//go:build !windows

package workstation

import (
	"os"
	"path/filepath"
	"strconv"
	"syscall"
)

// holderSockets lists where the holder may listen: in the runtime folder of this login (XDG
// Base Directory Specification), which goes away at its end, or else below the state folder.
// A throwaway home has a holder of its own.
func (s *Station) holderSockets() []string {
	below := filepath.Join(s.State, "run", "agent")
	if s.Getenv("UNICRUX_STATE") != "" || !s.SameHome() {
		return []string{below}
	}
	for _, dir := range []string{s.Getenv("XDG_RUNTIME_DIR"), "/run/user/" + strconv.Itoa(s.UID)} {
		if filepath.IsAbs(dir) && s.ownsAlone(dir) {
			return []string{filepath.Join(dir, "unicrux", "agent"), below}
		}
	}
	return []string{below}
}

// ownsAlone tells whether a folder is this person's and closed to everybody else, as the
// specification demands of a runtime folder.
func (s *Station) ownsAlone(dir string) bool {
	info, err := os.Stat(dir)
	if err != nil || !info.IsDir() || info.Mode().Perm()&0o077 != 0 {
		return false
	}
	owner, ok := info.Sys().(*syscall.Stat_t)
	return ok && int(owner.Uid) == s.UID
}
