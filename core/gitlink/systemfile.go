package gitlink

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"

	"anchorage.example/unicrux/core/workstation"
)

// distributions is where the git of a Linux distribution is; its own settings are in /etc then.
const distributions = "/usr/bin/git"

// systemFileOf is the file that this machine's git reads for everybody; empty for none.
func systemFileOf(station *workstation.Station) (string, error) {
	program, err := exec.LookPath("git")
	if err != nil {
		return "", ErrNoGit
	}
	if real, err := filepath.EvalSymlinks(program); err == nil && runtime.GOOS == "linux" && real == distributions {
		return MachineFile, nil
	}
	alone := *station
	alone.Folder, alone.Gone = filepath.VolumeName(station.Home)+string(filepath.Separator), false
	out, err := Run(context.Background(), &alone, "config", "--system", "--list", "--null", "--show-scope",
		"--show-origin")
	entries := parseList(out)
	if err != nil || len(entries) == 0 {
		return "", nil //nolint:nilerr // git fails where there is no such file
	}
	return entries[0].Origin, nil
}

// sameFolder tells that two paths lead to one folder.
func sameFolder(a, b string) bool {
	one, err := os.Stat(a)
	if err != nil {
		return false
	}
	other, err := os.Stat(b)
	return err == nil && os.SameFile(one, other)
}
