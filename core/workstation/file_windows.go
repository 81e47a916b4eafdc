package workstation

import (
	"os"

	"anchorage.example/unicrux/core/disk"
)

// keepOwner does nothing: a new file inherits the folder's access list.
func keepOwner(*disk.File, string) error { return nil }

// keepAttributes does nothing: they come with the folder.
func keepAttributes(*disk.File, string) error { return nil }

// giveFolder does nothing: a new folder inherits the access list of the one it stands in.
func giveFolder(string) error { return nil }

// syncFolder does nothing: NTFS journals renames.
func syncFolder(string) error { return nil }

// alive tells whether a process of this number is there.
func alive(pid int) bool {
	process, err := os.FindProcess(pid)
	if err != nil {
		return false
	}
	return process.Release() == nil
}
