package workstation

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"Unicrux/core/regular"
)

// underwayPath is a mark that stands while a step on a file is under way. It holds the
// number of the change.
func (s *Station) underwayPath() string { return filepath.Join(s.State, "underway") }

func (s *Station) markUnderway(id int) error {
	return AsOwner(s.State, func() error {
		f, err := os.OpenFile(s.underwayPath(), os.O_WRONLY|os.O_CREATE|os.O_TRUNC|regular.NoFollow, 0o600)
		if err != nil {
			return err
		}
		_, err = f.WriteString(strconv.Itoa(id))
		return errors.Join(err, f.Close())
	})
}

func (s *Station) clearUnderway() error {
	err := AsOwner(s.State, func() error { return os.Remove(s.underwayPath()) })
	if errors.Is(err, fs.ErrNotExist) {
		err = nil
	}
	return err
}

// Tidy puts right what a run left that was cut short, and says so in sentences: none when
// there was nothing, which costs one look at a file. Each file is old or new at every
// instant; only the record, and leftovers beside the file, need putting right.
func (s *Station) Tidy() ([]string, error) {
	if _, err := os.Stat(s.underwayPath()); err != nil {
		return nil, nil // none there, or not ours to see
	}
	unlock, err := s.lock()
	if err != nil {
		return nil, err
	}
	defer unlock() //nolint:errcheck // the lock ends with the process at the latest
	text, err := regular.ReadOwn(s.underwayPath(), maxRecord)
	if errors.Is(err, fs.ErrNotExist) { // it belonged to a run that has just ended well
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var words []string
	err = AsOwner(s.State, func() (err error) {
		if words, err = s.settleRecord(strings.TrimSpace(string(text))); err != nil {
			return err
		}
		return errors.Join(removeBeside(s.recordFolder()), s.clearUnderway())
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
	if err != nil {
		return nil, err
	}
	var words []string
	var kept []Step
	for _, step := range change.Steps {
		if step.Done || step.File == nil {
			kept = append(kept, step)
			continue
		}
		if err := removeBeside(filepath.Dir(step.File.Path)); err != nil {
			return nil, err
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
			for i := len(step.File.Folders) - 1; i >= 0 && os.Remove(step.File.Folders[i]) == nil; i-- {
			}
		}
		words = append(words, fmt.Sprintf("An earlier run was cut short at this: %s %s", step.Words, ending))
	}
	change.Steps = kept
	if len(kept) == 0 {
		return words, os.Remove(s.recordPath(id))
	}
	return words, s.writeRecord(&change)
}

// removeBeside removes files that were written beside others and never took their place.
func removeBeside(dir string) error {
	left, err := filepath.Glob(filepath.Join(dir, besideMark+"*"))
	if err != nil {
		return err
	}
	for _, path := range left {
		err = errors.Join(err, os.Remove(path))
	}
	return err
}
