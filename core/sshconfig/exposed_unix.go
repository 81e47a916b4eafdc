//go:build !windows

package sshconfig

import (
	"io/fs"
	"os"
	"syscall"
)

// exposed repeats the client's rule for its own files: owned by the person or by root,
// and writable for nobody else.
func exposed(info fs.FileInfo, uid int) bool {
	owner := int(info.Sys().(*syscall.Stat_t).Uid)
	return owner != 0 && owner != uid && owner != os.Getuid() || info.Mode().Perm()&0o022 != 0
}
