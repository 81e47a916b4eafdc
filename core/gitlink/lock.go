package gitlink

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os/exec"
	"strings"

	"anchorage.example/unicrux/core/untrusted"
	"anchorage.example/unicrux/core/workstation"
)

// lockName names git's own lock of a file, which must not be there yet ("lockfile.h" in git's sources).
// Whoever uses git to change the file meanwhile is told that it is locked.
func lockName(path string) string { return path + ".lock" }

// An EditOf is a change of one of git's files: what its entries are to be, from what they are.
type EditOf struct {
	Path, Words string
	Mode        fs.FileMode
	Secret      bool // as in [workstation.Edit]
}

// Change changes one of git's files under git's lock. assign is called with what is in the file then,
// without what it includes, so that nobody's edit is lost.
func Change(ctx context.Context, batch *workstation.Batch, station *workstation.Station, e EditOf,
	assign func(entries []Entry) ([]Assignment, error)) (changed bool, err error) {
	return ChangeText(batch, e, func(old []byte) ([]byte, error) {
		entries, err := EntriesOf(old)
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
func ChangeText(batch *workstation.Batch, e EditOf,
	compute func(old []byte) ([]byte, error)) (changed bool, err error) {
	return batch.Do(workstation.Edit{Path: e.Path, Summary: e.Words, Mode: e.Mode, Secret: e.Secret,
		LockName: lockName}, compute)
}

// gitsEntries is [EntriesOf] as git itself reads it, before and after a change.
func gitsEntries(ctx context.Context, station *workstation.Station, text []byte) ([]Entry, error) {
	if len(text) == 0 {
		return nil, nil
	}
	out, err := runWith(ctx, station, text, "config", "--file", "-", "--no-includes", "--list", "--null",
		"--show-scope", "--show-origin")
	if err != nil {
		var exit *exec.ExitError
		if errors.As(err, &exit) && len(exit.Stderr) > 0 {
			return nil, &ConfigError{Program: "git", Message: untrusted.Clean(strings.TrimSpace(string(exit.Stderr)))}
		}
		return nil, fmt.Errorf("git config: %w", err)
	}
	return parseList(out), nil
}
