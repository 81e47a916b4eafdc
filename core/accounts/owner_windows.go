package accounts

import "io/fs"

func ownerOf(fs.FileInfo) (uid, gid int, ok bool) { return -1, -1, true }
