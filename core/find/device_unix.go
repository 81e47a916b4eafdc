//go:build !windows

package find

import (
	"os"
	"syscall"
)

// deviceOf tells which file system a folder is on.
func deviceOf(path string) (device uint64, ok bool) {
	info, err := os.Lstat(path)
	if err != nil {
		return 0, false
	}
	stat, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return 0, false
	}
	return uint64(stat.Dev), true // its type differs between platforms
}
