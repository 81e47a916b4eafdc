package gitlink

import (
	"io/fs"
	"os"

	"anchorage.example/unicrux/core/workstation"
)

func isNotFolder(error) bool { return false }

// isOwner leaves it to git: it goes by a list of rights that is not looked at here.
func isOwner(*workstation.Station, fs.FileInfo) bool { return true }

func sameDevice(string, string) bool { return true }

func maySearch(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}
