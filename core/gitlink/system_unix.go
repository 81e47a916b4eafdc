//go:build !windows

package gitlink

import (
	"errors"
	"io/fs"
	"os"
	"strconv"
	"syscall"

	"golang.org/x/sys/unix"

	"anchorage.example/unicrux/core/workstation"
)

func isNotFolder(err error) bool { return errors.Is(err, syscall.ENOTDIR) }

// isOwner goes by the user that this process is, and for root also by the one that became it through sudo
// ("is_path_owned_by_current_uid" in git's sources).
func isOwner(station *workstation.Station, info fs.FileInfo) bool {
	stat, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return false
	}
	us := os.Geteuid()
	if us == 0 && stat.Uid != 0 {
		if id, err := strconv.ParseUint(station.Getenv("SUDO_UID"), 10, 32); err == nil {
			return stat.Uid == uint32(id)
		}
	}
	return int64(stat.Uid) == int64(us)
}

func sameDevice(a, b string) bool {
	var one, other unix.Stat_t
	return unix.Stat(a, &one) == nil && unix.Stat(b, &other) == nil && one.Dev == other.Dev
}

func maySearch(path string) bool { return unix.Access(path, unix.X_OK) == nil }
