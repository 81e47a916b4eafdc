package workstation

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"time"

	"anchorage.example/unicrux/core/disk"
	"anchorage.example/unicrux/core/fault"
	"anchorage.example/unicrux/core/redact"
)

// Reasons for which [Station.Undo] does not take a change back, for errors.Is.
var (
	ErrNoChange = fault.New("change-unknown", fault.Refused, "no such change is in the record")
	ErrUndone   = fault.New("change-undone", fault.Refused, "this change was taken back already")
	ErrEdited   = errors.New("the file was changed since")
	ErrSecret   = fault.New("undo-secret", fault.Refused, "a secret was there, and secrets are not recorded")
)

// An EditedError says which file stands in the way of an undo: what the change did there is not found
// any more.
type EditedError struct {
	Path string
	Ours []Hunk // what the change did there, with secrets masked; nil where it is not recorded
	By   int    // another change of ours that edited it and was not taken back; 0 when it was somebody else
}

func (e *EditedError) Error() string { return fmt.Sprintf("%s: %v", e.Path, ErrEdited) }

// Unwrap returns [ErrEdited].
func (e *EditedError) Unwrap() error { return ErrEdited }

// An Undone says what an undo did.
type Undone struct {
	Change   Change
	SetAside []string // where secret files were moved to, which are never deleted
}

// Undo takes a change back, the newest that stands when id is 0. Before anything is
// touched it makes sure that every file still is as the change left it. atHost takes back
// an act at a host; it is called first, because only that can still be refused. Stopped
// anywhere, it can be run again.
func (s *Station) Undo(id int, dry bool, atHost func(HostStep) error) (*Undone, []Difference, error) {
	change, err := s.find(id)
	if err != nil {
		return nil, nil, err
	}
	var differences []Difference
	check := func() (err error) {
		differences, err = s.undoable(change, rehearsal{})
		return err
	}
	if err := s.whileLocked(check); err != nil || dry {
		return &Undone{Change: change}, differences, err
	}
	for _, step := range slices.Backward(change.Steps) {
		if step.Host != nil { // unlocked: a person may have to be asked for a token
			if err := atHost(*step.Host); err != nil {
				return nil, nil, err
			}
		}
	}
	undone := &Undone{}
	err = s.whileLocked(func() error {
		if err := check(); err != nil { // once more: somebody may have been at work meanwhile
			return err
		}
		return s.restoreAll(&change, undone)
	})
	undone.Change = change
	return undone, differences, err
}

// restoreAll gives the files of a change back, the last step first, and marks it as undone.
func (s *Station) restoreAll(change *Change, undone *Undone) error {
	l := Leaving{Beside: []string{s.recordFolder()}}
	for _, step := range change.Steps {
		if step.File != nil {
			l.Beside = append(l.Beside, filepath.Dir(step.File.Path))
		}
	}
	done, err := MayLeave(s.State, l)
	if err != nil {
		return err
	}
	defer done()
	for _, step := range slices.Backward(change.Steps) {
		if step.File == nil {
			continue
		}
		aside := ""
		err := AsOwner(step.File.Path, func() (err error) {
			aside, err = s.restore(change.ID, step.File)
			return err
		})
		if err != nil {
			return err
		}
		if aside != "" {
			undone.SetAside = append(undone.SetAside, aside)
		}
	}
	now := s.Now().UTC().Truncate(time.Second)
	change.Undone = &now
	return s.writeRecord(change)
}

// Standing lists the numbers of the changes that were not taken back, the newest first. One that cannot be read is not
// among them.
func (s *Station) Standing() ([]int, error) {
	all, err := s.Changes()
	var list []int
	for _, change := range slices.Backward(all) {
		if change.Unread == nil && change.Undone == nil {
			list = append(list, change.ID)
		}
	}
	return list, err
}

// MayUndo returns the newest change before another one that is not taken back and of which every file is as it must be;
// 0 for none.
func (s *Station) MayUndo(before int) int {
	list, _ := s.Standing() // a folder that cannot be read only costs the number
	for _, id := range list {
		if id >= before {
			continue
		}
		if change, err := s.find(id); err == nil {
			if _, err := s.undoable(change, rehearsal{}); err == nil {
				return id
			}
		}
	}
	return 0
}

func (s *Station) find(id int) (Change, error) {
	if id > 0 {
		change, err := readRecord(s.recordPath(id))
		switch {
		case errors.Is(err, fs.ErrNotExist):
			return change, fmt.Errorf("%d: %w", id, ErrNoChange)
		case err == nil && change.Undone != nil:
			err = fmt.Errorf("%d: %w", id, ErrUndone)
		}
		return change, err
	}
	all, err := s.Changes()
	if err != nil {
		return Change{}, err
	}
	for _, change := range slices.Backward(all) {
		if change.Unread != nil { // what came before may be meant, or may not
			return change, change.Unread
		}
		if change.Undone == nil {
			return change, nil
		}
	}
	return Change{}, ErrNoChange
}

// undoable makes sure that every file is as the change left it, or as it was before (from
// an undo that was cut short). Steps on the same file are looked at from the last one back.
func (s *Station) undoable(change Change, before rehearsal) ([]Difference, error) {
	var differences []Difference
	states := maps.Clone(before.states) // what the undo makes of the files so far
	if states == nil {
		states = map[string]fileState{}
	}
	for _, step := range slices.Backward(change.Steps) {
		d := Difference{Summary: step.Summary}
		if f := step.File; f != nil {
			now, known := states[f.Path]
			if !known {
				var err error
				if now, err = readState(f.Path); err != nil {
					return nil, err
				}
			}
			then, ok := f.undo(now)
			if ok && !f.left(now) &&
				s.later(change, f.Path, before.undone) != 0 { // what was built on this must go first
				ok = false
			}
			if f.Secret && f.Before != nil && f.Before.Sum != f.After.Sum && f.Aside == "" {
				return nil, fmt.Errorf("%s: %w", s.Tilde(f.Path), ErrSecret)
			}
			if !ok {
				return nil, s.edited(change.ID, f, before.undone)
			}
			states[f.Path] = then
			d.Path, d.Secret = f.Path, f.Secret
			if !f.Secret {
				d.Before, d.After = redact.Mask(now.content), redact.Mask(then.content)
			}
		}
		differences = append(differences, d)
	}
	if before.states != nil {
		maps.Copy(before.states, states)
	}
	return differences, nil
}

// undo tells what the file is to be after the step was taken back; ok is false when it is
// neither as the step left it nor as it was before.
func (f *FileStep) undo(now fileState) (then fileState, ok bool) {
	switch {
	case f.Before == nil && !now.exists, f.Before != nil && now.is(*f.Before):
		return now, true
	case !f.left(now):
		return f.withoutUs(now)
	case f.Before == nil:
		return fileState{}, true
	case f.Aside != "":
		aside, err := readState(f.Aside)
		return aside, err == nil && aside.exists
	case f.Secret: // only the mode of a secret file is ever changed
		return fileState{exists: true, mode: f.Before.Mode, content: now.content}, true
	}
	content, ok := f.before(now.content)
	return fileState{exists: true, mode: f.Before.Mode, content: content}, ok
}

// withoutUs is a file that was edited since, without our lines; ok is false where they are not found in it
// beyond doubt.
func (f *FileStep) withoutUs(now fileState) (then fileState, ok bool) {
	if f.Secret || f.Gone || !now.exists || len(f.Edits) == 0 {
		return now, false
	}
	content, ok := takenOut(now.content, f.Edits)
	if !ok || f.Before == nil && len(content) == 0 { // nothing is left that is not ours
		return fileState{}, ok
	}
	return fileState{exists: true, mode: now.mode, content: content}, true
}

// happened tells whether a step left the file as it was to.
func (f *FileStep) happened() bool {
	now, err := readState(f.Path)
	return err == nil && f.left(now)
}

// before is what stood in a file that is as the step left it.
func (f *FileStep) before(now []byte) ([]byte, bool) {
	if f.Before.Bytes != nil {
		return f.Before.Bytes, true
	}
	content, ok := takenBack(now, f.Edits)
	return content, ok && sum(content) == f.Before.Sum
}

// later finds a change of ours that was made after another, on the same file, and that was not taken
// back: what it did may lean on the other. Changes that were made at the same time lean on each other,
// and stand in nobody's way.
func (s *Station) later(change Change, path string, gone []int) int {
	all, _ := s.Changes() // a folder that cannot be read only costs the number
	for _, other := range slices.Backward(all) {
		if other.ID > change.ID && other.Undone == nil && !slices.Contains(gone, other.ID) && other.touches(path) &&
			!change.follows(all, other, path) {
			return other.ID
		}
	}
	return 0
}

func (c Change) touches(path string) bool {
	return slices.ContainsFunc(c.Steps, func(step Step) bool { return step.File != nil && step.File.Path == path })
}

// follows tells whether a step of this change was taken when a step of the other had been taken before:
// it walks back from what was in the file, by the marks of its contents.
func (c Change) follows(all []Change, other Change, path string) bool {
	type origin struct {
		change int
		before string // what was in the file before, as its mark; empty for no file
	}
	from := map[string]origin{}
	for _, change := range all {
		for _, step := range change.Steps {
			if f := step.File; f != nil && f.Path == path {
				from[f.After.Sum] = origin{change.ID, f.beforeSum()}
			}
		}
	}
	for _, step := range c.Steps {
		if step.File == nil || step.File.Path != path {
			continue
		}
		at := step.File.beforeSum()
		for range len(from) {
			o, known := from[at]
			if known && o.change == other.ID {
				return true
			}
			at = o.before
		}
	}
	return false
}

func (f *FileStep) beforeSum() string {
	if f.Before == nil {
		return ""
	}
	return f.Before.Sum
}

func (s *Station) edited(id int, f *FileStep, gone []int) error {
	err := &EditedError{Path: f.Path}
	for _, h := range f.Edits {
		err.Ours = append(err.Ours, Hunk{Removed: redact.Mask(h.Removed), Added: redact.Mask(h.Added)})
	}
	all, _ := s.Changes() // a folder that cannot be read only costs the number
	for _, change := range all {
		if change.ID != id && change.Undone == nil && !slices.Contains(gone, change.ID) && change.touches(f.Path) {
			err.By = change.ID
		}
	}
	return err
}

func (s fileState) is(c Content) bool {
	return s.exists && sum(s.content) == c.Sum && s.mode == c.Mode
}

// left tells whether a file is as the step left it.
func (f *FileStep) left(now fileState) bool {
	if f.Gone {
		return !now.exists
	}
	return now.is(f.After)
}

// restore gives a file back as it was. A secret file that was made is set aside in the
// state folder: a key may be the only way into something.
func (s *Station) restore(id int, f *FileStep) (aside string, err error) {
	now, err := readState(f.Path)
	if err != nil {
		return "", err
	}
	then, _ := f.undo(now)
	switch {
	case f.Aside != "" && now.exists: // from an undo that was cut short
	case f.Aside != "":
		return "", bringBack(f.Aside, f.Path)
	case then.exists && f.Secret:
		return "", disk.Chmod(f.Path, then.mode)
	case then.exists:
		return "", replace(f.Path, then.content, then.mode)
	case now.exists && f.Secret:
		if aside, err = s.setAside(id, f.Path); err != nil {
			return "", err
		}
	case now.exists:
		if err := disk.Remove(f.Path); err != nil {
			return "", err
		}
	}
	for _, dir := range slices.Backward(f.Folders) {
		if disk.Remove(dir) != nil { // something else stands in it
			break
		}
	}
	return aside, nil
}

func (s *Station) setAside(id int, path string) (string, error) {
	target := s.asidePath(id, path)
	if _, err := makeFolder(filepath.Dir(target)); err != nil {
		return "", err
	}
	return target, move(path, target)
}

// asidePath is where a file is set aside by a change.
func (s *Station) asidePath(id int, path string) string {
	return filepath.Join(s.State, "set-aside", fmt.Sprintf("%06d", id), filepath.Base(path))
}

// bringBack puts a file that was set aside back to where it was, and never in place of
// anything.
func bringBack(aside, path string) error {
	if _, err := makeFolder(filepath.Dir(path)); err != nil {
		return err
	}
	return move(aside, path)
}

// move gives a file another name, without replacing anything.
func move(path, target string) error {
	if _, err := os.Lstat(target); err == nil {
		return fmt.Errorf("%s: %w", target, ErrExists)
	}
	err := disk.Rename(path, target)
	if err == nil {
		return errors.Join(syncFolder(filepath.Dir(path)), syncFolder(filepath.Dir(target)))
	}
	// Another file system: copy first, remove last.
	state, readErr := readState(path)
	if readErr != nil {
		return errors.Join(err, readErr)
	}
	if err := create(target, state.content, state.mode); err != nil {
		return err
	}
	return disk.Remove(path)
}
