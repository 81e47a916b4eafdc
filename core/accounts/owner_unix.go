//go:build !windows

package accounts

import (
	"io/fs"
	"syscall"
)

func ownerOf(info fs.FileInfo) (uid, gid int, ok bool) {
	stat, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return 0, 0, false
	}
	return int(stat.Uid), int(stat.Gid), true
}
