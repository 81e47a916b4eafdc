package workstation

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"time"

	"Unicrux/core/plainsecrets"
)

// Reasons for which a change is not taken back, for errors.Is.
var (
	ErrNoChange = errors.New("no such change is in the record")
	ErrUndone   = errors.New("this change was taken back already")
	ErrEdited   = errors.New("the file was changed since")
	ErrSecret   = errors.New("a secret was there, and secrets are not recorded")
)

// An EditedError holds both versions of a file that stands in the way of an undo.
type EditedError struct {
	Path      string
	Now, Then []byte // as it is now, and without our lines; nil where there is no file, or a secret, or that cannot be told
	By        int    // the later change of ours that edited it; 0 when it was somebody else
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
		differences, err = s.undoable(change)
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
		if change.Undone == nil {
			return change, nil
		}
	}
	return Change{}, ErrNoChange
}

// undoable makes sure that every file is as the change left it, or as it was before (from
// an undo that was cut short). Steps on the same file are looked at from the last one back.
func (s *Station) undoable(change Change) ([]Difference, error) {
	var differences []Difference
	states := map[string]fileState{} // what the undo makes of the files so far
	for _, step := range slices.Backward(change.Steps) {
		d := Difference{Words: step.Words}
		if f := step.File; f != nil {
			now, known := states[f.Path]
			if !known {
				var err error
				if now, err = readState(f.Path); err != nil {
					return nil, err
				}
			}
			then, ok := f.undo(now)
			if f.Secret && f.Before != nil && f.Before.Sum != f.After.Sum && f.Aside == "" {
				return nil, fmt.Errorf("%s: %w", f.Path, ErrSecret)
			}
			if !ok {
				return nil, s.edited(change.ID, f, now)
			}
			states[f.Path] = then
			d.Path, d.Secret = f.Path, f.Secret
			if !f.Secret {
				d.Before, d.After = plainsecrets.Mask(now.content), plainsecrets.Mask(then.content)
			}
		}
		differences = append(differences, d)
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
		return now, false
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

// before is what stood in a file that is as the step left it.
func (f *FileStep) before(now []byte) ([]byte, bool) {
	if f.Before.Bytes != nil {
		return f.Before.Bytes, true
	}
	content, ok := takenBack(now, f.Edits)
	return content, ok && sum(content) == f.Before.Sum
}

func (s *Station) edited(id int, f *FileStep, now fileState) error {
	err := &EditedError{Path: f.Path}
	if !f.Secret {
		err.Now = plainsecrets.Mask(now.content)
		if f.Before != nil {
			err.Then = plainsecrets.Mask(takenOut(now.content, f.Edits))
		}
	}
	all, _ := s.Changes() // a record that cannot be read only costs the number
	for _, change := range all {
		for _, step := range change.Steps {
			if change.ID > id && change.Undone == nil && step.File != nil && step.File.Path == f.Path {
				err.By = change.ID
			}
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
		return "", os.Chmod(f.Path, then.mode)
	case then.exists:
		return "", replace(f.Path, then.content, then.mode)
	case now.exists && f.Secret:
		if aside, err = s.setAside(id, f.Path); err != nil {
			return "", err
		}
	case now.exists:
		if err := os.Remove(f.Path); err != nil {
			return "", err
		}
	}
	for _, dir := range slices.Backward(f.Folders) {
		if os.Remove(dir) != nil { // something else stands in it
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
	err := os.Rename(path, target)
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
	return os.Remove(path)
}
