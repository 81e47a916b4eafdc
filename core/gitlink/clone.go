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

	"Unicrux/core/address"
	"Unicrux/core/allow"
	"Unicrux/core/workstation"
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
	if err != nil || !allow.SameHost(origin.Host, a.Host) || origin.Repository() != a.Repository() {
		return target, fmt.Errorf("%s: %w", into, ErrInTheWay)
	}
	target.Cloned = true
	return target, nil
}

// unfinished is where a clone is made until it is whole. Runs that clone into the same
// folder wait for each other, so one left behind is nobody's any more.
func (t Target) unfinished() string {
	return filepath.Join(filepath.Dir(t.Folder), "."+filepath.Base(t.Folder)+".unfinished")
}

// Clone runs the real git clone, which speaks to the person itself. The folder appears only
// when the clone is whole; one that was cut short is begun anew.
func Clone(ctx context.Context, station *workstation.Station, url string, target Target, in *os.File, out, errOut io.Writer, progress bool) error {
	program, err := exec.LookPath("git")
	if err != nil {
		return ErrNoGit
	}
	if err := os.RemoveAll(target.unfinished()); err != nil {
		return err
	}
	args := []string{"clone", "--quiet"}
	if progress {
		args = append(args, "--progress")
	}
	cmd := exec.CommandContext(ctx, program, append(args, "--", url, target.unfinished())...)
	cmd.Dir, cmd.Env, cmd.Stdin, cmd.Stdout, cmd.Stderr = station.Folder, station.Environ, in, out, errOut
	if err := cmd.Run(); err != nil {
		return errors.Join(fmt.Errorf("git clone: %w", err), os.RemoveAll(target.unfinished()))
	}
	if err := os.Remove(target.Folder); err != nil && !errors.Is(err, fs.ErrNotExist) { // it may be there, and empty
		return err
	}
	return os.Rename(target.unfinished(), target.Folder)
}
