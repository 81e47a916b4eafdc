package sshconfig

import "io/fs"

// exposed is left to access lists there, which the client's port for Windows reads itself.
func exposed(fs.FileInfo, int) bool { return false }
