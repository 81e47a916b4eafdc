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
	"runtime"
	"strings"
	"time"

	"anchorage.example/unicrux/core/address"
	"anchorage.example/unicrux/core/allow"
	"anchorage.example/unicrux/core/disk"
	"anchorage.example/unicrux/core/workstation"
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
	out, _ := Run(ctx, &inside, "config", "--local", "--get", "remote.origin.url") // no answer is an answer
	origin, err := address.Parse(strings.TrimSpace(string(out)))
	if err != nil || !allow.SameHost(origin.Host, a.Host) || origin.Repository() != a.Repository() {
		return target, fmt.Errorf("%s: %w", into, ErrInTheWay)
	}
	target.Cloned = true
	return target, nil
}

// Clone runs the real git clone, which speaks to the person itself. The folder appears only
// when the clone is whole; one that was cut short is begun anew.
func Clone(ctx context.Context, station *workstation.Station, url string, target Target, in *os.File, out,
	errOut io.Writer, progress bool) error {
	folder := workstation.Unfinished(target.Folder)
	done, err := workstation.MayLeave(station.State, workstation.Leaving{Unfinished: []string{folder}})
	if err != nil {
		return err
	}
	defer done()
	args := []string{"clone", "--quiet"}
	if progress {
		args = append(args, "--progress")
	}
	cmd := Attached{Folder: station.Dir(), In: in, Out: out, Err: errOut, Environ: station.Environ}
	if err := cmd.Run(ctx, append(args, "--", url, folder)...); err != nil {
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

// An Attached git speaks to the person itself.
type Attached struct {
	Folder   string
	Environ  []string
	In       *os.File // nil for nothing to read
	Out, Err io.Writer
}

// Run runs git to its end, or asks it to end with ctx, or with this process, so that it cleans up.
func (a Attached) Run(ctx context.Context, args ...string) error {
	program, err := exec.LookPath("git")
	if err != nil {
		return ErrNoGit
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
		return fmt.Errorf("git %s: %w", args[0], err)
	}
	return nil
}
