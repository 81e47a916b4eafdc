package workstation

import (
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"anchorage.example/unicrux/core/disk"
)

// scratchFolder is where what has to be in a file for another program is kept meanwhile: private, and
// under one folder of ours, so that a run that was killed leaves nothing elsewhere. Each computer has its
// own, since a home may be shared, and numbers of processes are not.
func (s *Station) scratchFolder() string {
	return filepath.Join(s.State, "scratch", "on-"+url.PathEscape(s.Computer))
}

// Scratch makes a folder for a short time. Its name begins with the number of this process, by which
// the next run knows that it was left behind.
func (s *Station) Scratch() (folder string, remove func(), err error) {
	err = AsOwner(s.State, func() (err error) {
		if _, err = makeFolder(s.scratchFolder()); err == nil {
			folder, err = disk.MkdirTemp(s.scratchFolder(), strconv.Itoa(os.Getpid())+"-")
		}
		return err
	})
	return folder, func() { _ = disk.RemoveAll(folder) }, err // what is left is tidied by the next run
}

// Runs tells whether the process of a number still runs.
func Runs(number string) bool {
	pid, err := strconv.Atoi(number)
	return err == nil && alive(pid)
}

// deadScratch lists the folders of runs that are no more.
func (s *Station) deadScratch() []string {
	entries, err := os.ReadDir(s.scratchFolder())
	if err != nil {
		return nil
	}
	var dead []string
	for _, entry := range entries {
		number, _, _ := strings.Cut(entry.Name(), "-")
		if !Runs(number) {
			dead = append(dead, filepath.Join(s.scratchFolder(), entry.Name()))
		}
	}
	return dead
}
