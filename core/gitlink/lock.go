package gitlink

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"time"

	"Unicrux/core/workstation"
)

// lockPatience bounds the wait for git, which holds the lock for the time of one edit.
const lockPatience = 5 * time.Second

// ErrLocked is returned for a file of git's that another program has locked.
var ErrLocked = errors.New("git, or another program, is changing this file")

// lock takes git's own lock of a file: FILE.lock, which must not be there yet ("lockfile.h" in git's
// sources). Whoever uses git to change the file meanwhile is told that it is locked.
func lock(path string) (unlock func(), err error) {
	name := path + ".lock"
	for deadline := time.Now().Add(lockPatience); ; time.Sleep(10 * time.Millisecond) {
		f, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
		if err == nil {
			err = f.Close()
			return func() { _ = os.Remove(name) }, err // it is ours
		}
		if !errors.Is(err, fs.ErrExist) {
			return nil, err
		}
		if time.Now().After(deadline) {
			return nil, fmt.Errorf("%s: %w", path, ErrLocked)
		}
	}
}

// An EditOf is a change of one of git's files: what its entries are to be, from what they are.
type EditOf struct {
	Path, Words string
	Mode        fs.FileMode
	Secret      bool // as in [workstation.Edit]
}

// Change changes one of git's files under git's lock. assign is called with what is in the file then,
// without what it includes, so that nobody's edit is lost.
func Change(ctx context.Context, batch *workstation.Batch, station *workstation.Station, e EditOf, assign func(entries []Entry) ([]Assignment, error)) (changed bool, err error) {
	return ChangeText(batch, e, func(old []byte) ([]byte, error) {
		entries, err := EntriesIn(ctx, station, old)
		if err != nil {
			return nil, err
		}
		assignments, err := assign(entries)
		if err != nil {
			return nil, err
		}
		return Assign(ctx, station, old, assignments)
	})
}

// ChangeText is [Change] for whoever looks at the text itself.
func ChangeText(batch *workstation.Batch, e EditOf, compute func(old []byte) ([]byte, error)) (changed bool, err error) {
	return batch.Do(workstation.Edit{Path: e.Path, Words: e.Words, Mode: e.Mode, Secret: e.Secret, Lock: lock}, compute)
}

// EntriesIn lists what is in the text of one of git's files, without what it includes.
func EntriesIn(ctx context.Context, station *workstation.Station, text []byte) ([]Entry, error) {
	if len(text) == 0 {
		return nil, nil
	}
	out, err := runWith(ctx, station, text, "config", "--file", "-", "--list", "--null", "--show-scope", "--show-origin")
	if err != nil {
		return nil, fmt.Errorf("git config: %w", err)
	}
	return parseList(out), nil
}
