package gitlink

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"unicrux/core/address"
	"unicrux/core/workstation"
)

// ErrInTheWay is returned for a folder that is there and is no clone of the repository.
var ErrInTheWay = errors.New("the folder is there already, and it is not a clone of this repository")

// A Target is where a clone goes.
type Target struct {
	Folder string // absolute
	Cloned bool   // it is there already, from the same address
}

// CloneTarget settles where a clone of an address goes: into the folder given, or into one
// of the repository's name as git itself would (git-clone(1), "<directory>").
func CloneTarget(ctx context.Context, station *workstation.Station, a address.Address, into string) (Target, error) {
	if into == "" {
		parts := strings.Split(a.Repository(), "/")
		into = parts[len(parts)-1]
	}
	if !filepath.IsAbs(into) {
		into = filepath.Join(station.Folder, into)
	}
	target := Target{Folder: into}
	entries, err := os.ReadDir(into)
	switch {
	case errors.Is(err, fs.ErrNotExist), err == nil && len(entries) == 0:
		return target, nil
	case err != nil:
		return target, fmt.Errorf("%s: %w", into, ErrInTheWay)
	}
	inside := *station
	inside.Folder = into
	out, _ := Run(ctx, &inside, "config", "--local", "--get", "remote.origin.url") // no answer is an answer
	origin, err := address.Parse(strings.TrimSpace(string(out)))
	if err != nil || !strings.EqualFold(origin.Host, a.Host) || origin.Repository() != a.Repository() {
		return target, fmt.Errorf("%s: %w", into, ErrInTheWay)
	}
	target.Cloned = true
	return target, nil
}

// Clone runs the real git clone, with its own words going to the writers.
func Clone(ctx context.Context, station *workstation.Station, url, folder string, in *os.File, out, errOut io.Writer) error {
	program, err := exec.LookPath("git")
	if err != nil {
		return ErrNoGit
	}
	cmd := exec.CommandContext(ctx, program, "clone", "--", url, folder)
	cmd.Dir, cmd.Env, cmd.Stdin, cmd.Stdout, cmd.Stderr = station.Folder, station.Environ, in, out, errOut
	if err := cmd.Run(); err != nil {
		return fmt.Errorf("git clone: %w", err)
	}
	return nil
}
