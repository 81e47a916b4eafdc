package workstation

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path/filepath"
	"slices"
	"time"

	"anchorage.example/unicrux/core/disk"
	"anchorage.example/unicrux/core/lockfile"
	"anchorage.example/unicrux/core/redact"
)

// lockPatience bounds the wait for another command of ours that is changing something;
// each holds the lock for the time of one edit only.
const lockPatience = time.Minute

// A Batch carries out what one command changes, one step after another, and records it
// as one [Change]. With Dry set nothing is changed and [Batch.Differences] tells what would be.
type Batch struct {
	Dry bool
	// Shared is set where everybody may see what is changed: then folders that are made are for all, to enter and to
	// read.
	Shared bool

	station     *Station
	change      Change
	differences []Difference
	overlay     map[string]fileState // what a dry run would have written so far
	unclean     bool                 // a step happened, and not without an error
}

// A Difference is what a dry run would have done by one step.
type Difference struct {
	Summary string
	Path    string // empty for an act at a host
	// nil where the file does not exist, or where the edit holds a secret; secrets elsewhere are masked
	Before, After []byte
	Secret        bool
}

// Begin starts a batch. words says what the command is about, as one sentence; hosts are those that it is for.
func (s *Station) Begin(words string, dry bool, hosts ...string) *Batch {
	hosts = slices.DeleteFunc(hosts, func(name string) bool { return name == "" })
	return &Batch{Dry: dry, station: s, change: Change{Summary: words, Hosts: hosts}, overlay: map[string]fileState{}}
}

// Change returns what was done so far. Its ID is 0 while nothing was.
func (b *Batch) Change() Change { return b.change }

// Differences returns what a dry run would have done, in order.
func (b *Batch) Differences() []Difference { return b.differences }

// An Edit says which file is to be changed, and how carefully.
type Edit struct {
	Path    string      // links are followed
	Summary string      // what it does, as one sentence
	Mode    fs.FileMode // of a file that is made; one that is there keeps its own, and its owner
	Secret  bool        // a secret is where it is changed: the edit is not recorded, so undo refuses to take it back

	// LockName names the file that keeps other programs away from a file, as they expect it, while that
	// is read and written; nil where there is no such habit.
	LockName func(path string) string
}

// Edit changes the file at path to what compute makes of its content, which is nil when
// there is no file. The file keeps its mode and owner; a new one gets mode. Links are
// followed. Where compute changes nothing, nothing is written, and changed is false.
func (b *Batch) Edit(path, words string, mode fs.FileMode,
	compute func(old []byte) ([]byte, error)) (changed bool, err error) {
	return b.Do(Edit{Path: path, Summary: words, Mode: mode}, compute)
}

// Rewrite changes the content of a file in a place where a secret is ([Edit]).
func (b *Batch) Rewrite(path, words string, compute func(old []byte) ([]byte, error)) error {
	_, err := b.Do(Edit{Path: path, Summary: words, Mode: 0o600, Secret: true}, compute)
	return err
}

// Do carries out an edit. compute is called with what is in the file under all locks, so that nobody's
// edit is lost; where it changes nothing, nothing is written, and changed is false.
func (b *Batch) Do(e Edit, compute func(old []byte) ([]byte, error)) (changed bool, err error) {
	err = b.locked(e.Path, func() error {
		target, err := resolveLinks(e.Path)
		if err != nil {
			return err
		}
		if e.LockName != nil && !b.Dry {
			if _, err := makeFolders(filepath.Dir(target), b.folderMode()); err != nil {
				return err
			}
			unlock, err := b.station.lockOthers(e.LockName(target))
			if err != nil {
				return err
			}
			defer unlock()
		}
		before, err := b.stateOf(target)
		if err != nil {
			return err
		}
		content, err := compute(bytes.Clone(before.content))
		if err != nil || before.exists && bytes.Equal(content, before.content) || !before.exists && content == nil {
			return err
		}
		changed = true
		after := fileState{exists: true, mode: e.Mode, content: content}
		if before.exists {
			after.mode = before.mode
		}
		return b.take(e.Summary, target, before, after, e.Secret, replace)
	})
	return changed, err
}

// Create makes a new file, and fails with [ErrExists] where anything is there already.
// A secret file's content is neither recorded nor shown.
func (b *Batch) Create(path, words string, mode fs.FileMode, content []byte, secret bool) error {
	return b.locked(path, func() error {
		if state, err := b.stateOf(path); err != nil {
			return err
		} else if state.exists {
			return fmt.Errorf("%s: %w", path, ErrExists)
		}
		return b.take(words, path, fileState{}, fileState{exists: true, mode: mode, content: content}, secret, create)
	})
}

// SetAside moves a file that holds a secret out of use, into the state folder: a key may be
// the only way into something. Where there is none, nothing happens.
func (b *Batch) SetAside(path, words string) error {
	return b.locked(path, func() error {
		before, err := b.stateOf(path)
		if err != nil || !before.exists {
			return err
		}
		return b.take(words, path, before, fileState{}, true, func(path string, _ []byte, _ fs.FileMode) error {
			_, err := b.station.setAside(b.change.ID, path)
			return err
		})
	})
}

// About records what a long command is at. It counts from the next step on.
func (b *Batch) About(about map[string]string) {
	b.change.About = map[string]string{}
	for name, value := range about { // paths are among them
		b.change.About[name] = pathText(value)
	}
}

// Mode changes the permissions of a file, and nothing of its content.
func (b *Batch) Mode(path, words string, mode fs.FileMode) error {
	return b.locked(path, func() error {
		target, err := resolveLinks(path)
		if err != nil {
			return err
		}
		before, err := b.stateOf(target)
		if err != nil || before.mode == mode {
			return err
		}
		after := before
		after.mode = mode
		return b.take(words, target, before, after, true, func(path string, _ []byte, mode fs.FileMode) error {
			return disk.Chmod(path, mode)
		})
	})
}

// Remove takes a file away, if it is there. It must hold no secret: its content goes to the record.
func (b *Batch) Remove(path, words string) error {
	return b.locked(path, func() error {
		before, err := b.stateOf(path)
		if err != nil || !before.exists {
			return err
		}
		return b.take(words, path, before, fileState{}, false, func(path string, _ []byte, _ fs.FileMode) error {
			return errors.Join(disk.Remove(path), syncFolder(filepath.Dir(path)))
		})
	})
}

// An Intent is something to be done at a host.
type Intent struct {
	Summary string // as one sentence
	Step    HostStep
}

// An Outcome is what became of an [Intent].
type Outcome struct {
	Data map[string]string // what undo needs beyond the step, such as the host's number for a new entry
	Err  error
}

// Act does something at a host, unless ctx has ended. The step is recorded before it is done, so that a
// run that is cut short leaves a trace. An error that says by Refused() that the host declined leaves
// nothing to take back. After any other, a lost answer say, nobody knows: the step stays in the record
// as not done.
func (b *Batch) Act(ctx context.Context, words string, step HostStep, do func() (map[string]string, error)) error {
	var outcome Outcome
	err := b.Acts(ctx, []Intent{{words, step}}, func() []Outcome {
		outcome.Data, outcome.Err = do()
		return []Outcome{outcome}
	})
	return errors.Join(outcome.Err, err)
}

// Acts does several things as [Batch.Act] does one. The record is written once before all of them and
// once after. do returns an outcome for each; the error is about the record alone.
func (b *Batch) Acts(ctx context.Context, intents []Intent, do func() []Outcome) error {
	if b.Dry {
		for _, intent := range intents {
			b.differences = append(b.differences, Difference{Summary: intent.Summary})
		}
		return nil
	}
	if err := ctx.Err(); err != nil || len(intents) == 0 {
		return err
	}
	at := len(b.change.Steps)
	err := b.locked(b.station.State, func() error {
		if err := b.open(); err != nil {
			return err
		}
		if err := b.station.markUnderway(b.change.ID); err != nil {
			return err
		}
		for _, intent := range intents {
			b.change.Steps = append(b.change.Steps, Step{Summary: intent.Summary, Host: &intent.Step})
		}
		return b.station.writeRecord(&b.change)
	})
	if err != nil {
		b.change.Steps = b.change.Steps[:at] // nothing was done
		id := b.change.ID
		return errors.Join(err, b.keepRecord(), b.clearMark(id))
	}
	b.station.fault(intents[0].Summary)
	outcomes := do()
	b.station.fault(intents[0].Summary)
	return b.locked(b.station.State, func() error {
		b.change.Steps = slices.Concat(b.change.Steps[:at], settled(b.change.Steps[at:at+len(intents)], outcomes),
			b.change.Steps[at+len(intents):])
		id := b.change.ID
		return errors.Join(b.keepRecord(), b.clearMark(id))
	})
}

// settled are the steps that stay in the record, with what became of them.
func settled(steps []Step, outcomes []Outcome) []Step {
	var kept []Step
	for i, step := range steps {
		var declined interface{ Refused() bool }
		switch err := outcomes[i].Err; {
		case err == nil:
			maps.Copy(step.Host.Data, outcomes[i].Data)
			step.Done = true
		case errors.As(err, &declined) && declined.Refused():
			continue
		}
		kept = append(kept, step)
	}
	return kept
}

// folderMode is that of folders that are made for files.
func (b *Batch) folderMode() fs.FileMode {
	if b.Shared {
		return 0o755
	}
	return ownFolder
}

// keepRecord writes the record, or removes it when no step is left. The number stays.
func (b *Batch) keepRecord() error {
	if b.change.ID == 0 {
		return nil
	}
	if len(b.change.Steps) > 0 {
		return b.station.writeRecord(&b.change)
	}
	err := AsOwner(b.station.State, func() error { return disk.Remove(b.station.recordPath(b.change.ID)) })
	b.change.ID = 0
	return err
}

// take carries out one step on a file: record the intent, write, record that it is done.
func (b *Batch) take(words, path string, before, after fileState, secret bool,
	write func(string, []byte, fs.FileMode) error) error {
	if b.Dry {
		b.pretend(words, path, before, after, secret)
		return nil
	}
	folders, err := makeFolders(filepath.Dir(path), b.folderMode())
	if err != nil {
		return err
	}
	step := &FileStep{Path: path, Folders: folders, Secret: secret, Gone: !after.exists}
	if after.exists {
		step.After = Content{Mode: after.mode, Sum: sum(after.content)}
	}
	if before.exists {
		step.Before = &Content{Mode: before.mode, Sum: sum(before.content)}
	}
	if !secret {
		step.record(before.content, after.content)
	}
	if err := b.open(); err != nil {
		return err
	}
	if !after.exists && secret {
		step.Aside = b.station.asidePath(b.change.ID, path)
	}
	if err := b.station.markUnderway(b.change.ID); err != nil {
		return err
	}
	b.change.Steps = append(b.change.Steps, Step{Summary: words, File: step})
	if err := b.station.writeRecord(&b.change); err != nil { // then it is not done either
		b.change.Steps = b.change.Steps[:len(b.change.Steps)-1]
		return errors.Join(err, b.clearMark(b.change.ID))
	}
	b.station.fault(words)
	writeErr := write(path, after.content, after.mode)
	if err := writeErr; err != nil && !step.happened() {
		b.change.Steps = b.change.Steps[:len(b.change.Steps)-1]
		id := b.change.ID
		return errors.Join(err, b.keepRecord(), b.clearMark(id))
	} // an error after the file was in its place (a folder that cannot be synced) changes nothing about that
	b.station.fault(words)
	b.change.Steps[len(b.change.Steps)-1].Done = true
	b.unclean = b.unclean || writeErr != nil
	return errors.Join(b.station.writeRecord(&b.change), b.clearMark(b.change.ID))
}

// clearMark takes the mark of this change away. Where something may be left beside a file it stays, and
// the next run takes that away.
func (b *Batch) clearMark(id int) error {
	if b.unclean {
		return nil
	}
	return b.station.clearUnderway(id)
}

func (b *Batch) pretend(words, path string, before, after fileState, secret bool) {
	b.overlay[path] = after
	difference := Difference{Summary: words, Path: path, Secret: secret}
	if !secret {
		difference.Before, difference.After = redact.Mask(before.content), redact.Mask(after.content)
	}
	b.differences = append(b.differences, difference)
}

func (b *Batch) stateOf(path string) (fileState, error) {
	if state, found := b.overlay[path]; found {
		return state, nil
	}
	return readState(path)
}

// open gives the change its number at its first step. The caller holds the lock.
func (b *Batch) open() (err error) {
	if b.change.ID != 0 {
		return nil
	}
	b.change.Version = recordVersion
	b.change.When = b.station.Now().UTC().Truncate(time.Second)
	b.change.ID, err = b.station.nextID()
	return err
}

// locked runs work while no other command of ours changes anything. A dry run, which
// changes nothing, needs no lock.
//
// What is done to a path is done as whoever it belongs to ([AsOwner]).
func (b *Batch) locked(path string, work func() error) error {
	if b.Dry {
		return AsOwner(path, work)
	}
	return b.station.whileLocked(func() error { return AsOwner(path, work) })
}

func (s *Station) whileLocked(work func() error) (err error) {
	unlock, err := s.lock(lockPatience)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, unlock()) }()
	return work()
}

// lock takes the lock under which everything here is changed. The error wraps [lockfile.ErrHeld] where another program
// kept it for as long as one waited.
func (s *Station) lock(patience time.Duration) (unlock func() error, err error) {
	path := filepath.Join(s.State, "lock")
	err = AsOwner(s.State, func() (err error) {
		if _, err := makeFolder(s.State); err != nil {
			return err
		}
		unlock, err = lockfile.Take(path, lockfile.Wait{Most: patience, Stop: s.Stop})
		return err
	})
	if errors.Is(err, lockfile.ErrHeld) {
		err = fmt.Errorf("another unicrux has been changing something here for %v and holds %s: %w", patience,
			s.Tilde(path), err)
	}
	return unlock, err
}
