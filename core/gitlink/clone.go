package gitlink

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"time"

	"anchorage.example/unicrux/core/address"
	"anchorage.example/unicrux/core/allow"
	"anchorage.example/unicrux/core/disk"
	"anchorage.example/unicrux/core/fault"
	"anchorage.example/unicrux/core/workstation"
)

// ErrInTheWay is returned for a folder that is there and is no clone of the repository.
var ErrInTheWay = fault.New("git-in-the-way", fault.Refused, "the folder is there already, and it is not a clone of this repository")

// A Target is where a clone goes.
type Target struct {
	Folder string // absolute
	Cloned bool   // it is there already, from the same address
}

// CloneTarget settles where a program, "git" or "hg", clones an address to: into the folder given, or into one
// of the repository's name as the program itself would (git-clone(1), "<directory>").
func CloneTarget(ctx context.Context, station *workstation.Station, program string, a address.Address,
	into string) (Target, error) {
	if into == "" {
		parts := strings.Split(a.Repository(), "/")
		into = parts[len(parts)-1]
	}
	into, err := station.InFolder(into)
	if err != nil {
		return Target{}, err
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
	inside.Folder, inside.Gone = into, false
	origin, err := address.Parse(clonedFrom(ctx, &inside, program))
	if err != nil || !allow.SameHost(origin.Host, a.Host) || origin.Repository() != a.Repository() {
		return target, fmt.Errorf("%s: %w", into, ErrInTheWay)
	}
	target.Cloned = true
	return target, nil
}

// clonedFrom is the URL of which the repository in a folder was cloned; empty for none.
func clonedFrom(ctx context.Context, inside *workstation.Station, program string) string {
	if program != hgProgram {
		out, _ := Run(ctx, inside, "config", "--local", "--get", "remote.origin.url") // no answer is an answer
		return strings.TrimSpace(string(out))
	}
	hg, err := ReadMercurial(inside)
	if err != nil || hg.Root != inside.Folder {
		return ""
	}
	entry, _, _ := hg.Path("default", false)
	return entry.Value
}

const hgProgram = "hg"

// Clone lets the real program clone, which speaks to the person itself: git, or hg where terms name that. The folder
// appears only when the clone is whole; one that was cut short is begun anew.
func Clone(ctx context.Context, station *workstation.Station, terms Attached, url string, target Target,
	progress bool) error {
	folder := workstation.Unfinished(target.Folder)
	done, err := workstation.MayLeave(station.State, workstation.Leaving{Unfinished: []string{folder}})
	if err != nil {
		return err
	}
	defer done()
	args := []string{"clone", "--quiet"}
	if progress && terms.Program != hgProgram {
		args = append(args, "--progress")
	}
	terms.Folder, terms.Environ = station.Dir(), station.Environ
	if err := terms.Run(ctx, append(args, "--", url, folder)...); err != nil {
		return errors.Join(err, disk.RemoveAll(folder))
	}
	err = disk.Remove(target.Folder) // it may be there, and empty
	if err == nil || errors.Is(err, fs.ErrNotExist) {
		err = disk.Rename(folder, target.Folder)
	}
	if err != nil {
		err = errors.Join(err, disk.RemoveAll(folder))
	}
	return err
}

// Init makes a folder a repository whose first branch has that name, all at once: one that was cut short
// is begun anew. git runs in the folder that it is given.
func Init(ctx context.Context, station *workstation.Station, folder, branch string,
	git func(ctx context.Context, folder string, args ...string) error) error {
	at := workstation.Unfinished(filepath.Join(folder, ".git"))
	done, err := workstation.MayLeave(station.State, workstation.Leaving{Unfinished: []string{at}})
	if err != nil {
		return err
	}
	defer done()
	err = disk.Mkdir(at, 0o755)
	if err == nil {
		err = git(ctx, at, "init", "--quiet", "--initial-branch="+branch)
	}
	if err == nil {
		err = disk.Rename(filepath.Join(at, ".git"), filepath.Join(folder, ".git"))
	}
	return errors.Join(err, disk.RemoveAll(at))
}

// endPatience is how long git may take to clean up when it is to end.
const endPatience = 5 * time.Second

// An Attached program speaks to the person itself.
type Attached struct {
	Program  string // "git" where it is left out, or "hg"
	Folder   string
	Environ  []string
	In       *os.File // nil for nothing to read
	Out, Err io.Writer
}

// Run runs the program to its end, or asks it to end with ctx, or with this process, so that it cleans up.
func (a Attached) Run(ctx context.Context, args ...string) error {
	name := cmp.Or(a.Program, "git")
	program, err := exec.LookPath(name)
	switch {
	case err != nil && name == "git":
		return ErrNoGit
	case err != nil:
		return err
	}
	cmd := exec.CommandContext(ctx, program, args...)
	cmd.Dir, cmd.Env, cmd.Stdout, cmd.Stderr = a.Folder, a.Environ, a.Out, a.Err
	if a.In != nil {
		cmd.Stdin = a.In
	}
	cmd.Cancel, cmd.WaitDelay = func() error { return askToEnd(cmd.Process) }, endPatience
	endWithUs(cmd)
	runtime.LockOSThread() // the one that starts a process is its parent (PR_SET_PDEATHSIG in prctl(2))
	defer runtime.UnlockOSThread()
	if err := cmd.Run(); err != nil {
		return fmt.Errorf("%s %s: %w", name, args[0], err)
	}
	return nil
}
