//go:build !windows

package sshway

import "io/fs"

// IsExposed repeats the client's rule for private files (sshkey_perm_ok in its sources).
func IsExposed(mode fs.FileMode) bool { return mode.Perm()&0o077 != 0 }
