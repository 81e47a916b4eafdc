//go:build !windows

package person

import (
	"os"
	"path"
	"strconv"
	"syscall"
)

// holderSockets lists where the holder may listen: in the runtime folder of this login (XDG
// Base Directory Specification), which goes away at its end, or else below the state folder.
// A throwaway home has a holder of its own.
func (p Person) holderSockets(name string) []string {
	below := join(p.State, "run", name)
	if p.Getenv("UNICRUX_STATE") != "" || !p.SameHome() {
		return []string{below}
	}
	for _, dir := range []string{p.Getenv("XDG_RUNTIME_DIR"), "/run/user/" + strconv.Itoa(p.UID)} {
		if isAbsolute(dir) && p.ownsAlone(dir) {
			return []string{join(dir, "unicrux", name), below}
		}
	}
	return []string{below}
}

// ownsAlone tells whether a folder is this person's and closed to everybody else, as the
// specification demands of a runtime folder.
func (p Person) ownsAlone(dir string) bool {
	info, err := os.Stat(dir)
	if err != nil || !info.IsDir() || info.Mode().Perm()&0o077 != 0 {
		return false
	}
	owner, ok := info.Sys().(*syscall.Stat_t)
	return ok && int(owner.Uid) == p.UID
}

// Package path does here what package path/filepath would, which comes later.

func join(parts ...string) string { return path.Join(parts...) }
func clean(name string) string    { return path.Clean(name) }
func last(name string) string     { return path.Base(name) }
func isAbsolute(name string) bool { return path.IsAbs(name) }

func absolute(name string) (string, error) {
	if isAbsolute(name) {
		return clean(name), nil
	}
	folder, err := os.Getwd()
	return join(folder, name), err
}
