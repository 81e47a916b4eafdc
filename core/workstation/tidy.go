package workstation

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"anchorage.example/unicrux/core/disk"
	"anchorage.example/unicrux/core/lockfile"
	"anchorage.example/unicrux/core/regular"
)

// underwayMark begins the names of marks that are there while a step on a file is under way, one for
// each change.
const underwayMark = "underway-"

func (s *Station) underwayPath(id int) string {
	return filepath.Join(s.State, underwayMark+strconv.Itoa(id))
}

func (s *Station) markUnderway(id int) error {
	return AsOwner(s.State, func() error {
		f, err := disk.OpenFile(s.underwayPath(id), os.O_WRONLY|os.O_CREATE|regular.NoFollow, 0o600)
		if err != nil {
			return err
		}
		return f.Close()
	})
}

func (s *Station) clearUnderway(id int) error {
	err := AsOwner(s.State, func() error { return disk.Remove(s.underwayPath(id)) })
	if errors.Is(err, fs.ErrNotExist) {
		err = nil
	}
	return err
}

// Tidy puts right what runs left that were cut short, and says so in sentences: none when
// there was nothing, which costs one look into a folder. Each file is old or new at every
// instant; only the record, and leftovers beside the file, need putting right.
func (s *Station) Tidy() ([]string, error) {
	left, err := filepath.Glob(filepath.Join(s.State, underwayMark+"*"))
	scratch := s.deadScratch()
	if err != nil || len(left)+len(scratch) == 0 {
		return nil, err
	}
	unlock, err := s.lock(0)
	// a run that goes on has marks of its own, and nobody waits for it who only reads
	if errors.Is(err, lockfile.ErrHeld) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer unlock() // the lock ends with the process at the latest
	var words []string
	err = AsOwner(s.State, func() (err error) {
		for _, folder := range scratch {
			said, freeErr := s.freeLock(folder)
			words, err = append(words, said...), errors.Join(err, freeErr, disk.RemoveAll(folder))
		}
		for _, mark := range left {
			if _, gone := os.Lstat(mark); gone != nil { // it belonged to a run that has just ended well
				continue
			}
			if strings.HasPrefix(filepath.Base(mark), runMark) {
				said, cleanErr := s.cleanUp(mark)
				words, err = append(words, said...), errors.Join(err, cleanErr)
				continue
			}
			said, settleErr := s.settleRecord(strings.TrimPrefix(filepath.Base(mark), underwayMark))
			words, err = append(words, said...), errors.Join(err, settleErr)
			if settleErr == nil {
				err = errors.Join(err, disk.Remove(mark))
			}
		}
		return errors.Join(err, removeBeside(s.recordFolder()))
	})
	return words, err
}

// settleRecord finds out of each unfinished step of a change whether it happened.
func (s *Station) settleRecord(number string) ([]string, error) {
	id, err := strconv.Atoi(number)
	if err != nil {
		return nil, nil
	}
	change, err := readRecord(s.recordPath(id))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if errors.Is(err, ErrUnreadable) || errors.Is(err, ErrNewer) {
		return []string{fmt.Sprintf("An earlier run was cut short, and its record cannot be read: %v.", err)}, nil
	}
	if err != nil {
		return nil, err
	}
	var words []string
	var kept []Step
	for _, step := range change.Steps {
		if step.File != nil {
			if err := removeBeside(filepath.Dir(step.File.Path)); err != nil {
				return nil, err
			}
		}
		if step.File == nil && !step.Done {
			words = append(words, fmt.Sprintf("An earlier run was cut short at this: %s It is not known whether that happened.", step.Summary))
		}
		if step.Done || step.File == nil {
			kept = append(kept, step)
			continue
		}
		now, err := readState(step.File.Path)
		if err != nil {
			return nil, err
		}
		ending := "It had not happened, and nothing is left of it."
		if step.File.left(now) {
			step.Done, ending = true, "It had happened, and the record is complete now."
			kept = append(kept, step)
		} else {
			for i := len(step.File.Folders) - 1; i >= 0 && disk.Remove(step.File.Folders[i]) == nil; i-- {
			}
		}
		words = append(words, fmt.Sprintf("An earlier run was cut short at this: %s %s", step.Summary, ending))
	}
	change.Steps = kept
	if len(kept) == 0 {
		return words, disk.Remove(s.recordPath(id))
	}
	return words, s.writeRecord(&change)
}

// removeBeside removes files that were written beside others and never took their place.
func removeBeside(dir string) error {
	entries, err := os.ReadDir(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	for _, entry := range entries {
		if strings.HasPrefix(entry.Name(), besideMark) {
			err = errors.Join(err, disk.Remove(filepath.Join(dir, entry.Name())))
		}
	}
	return err
}
