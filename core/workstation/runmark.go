package workstation

import (
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"anchorage.example/unicrux/core/disk"
	"anchorage.example/unicrux/core/regular"
)

// runMark begins the name of a file in the state folder that is there while a run may leave something
// behind elsewhere, if it is killed. The number of its process follows.
const runMark = underwayMark + "run-"

// A Leaving is what a run that is killed may leave behind.
type Leaving struct {
	Beside     []string `json:"beside,omitempty"`     // folders in which files are replaced
	Unfinished []string `json:"unfinished,omitempty"` // what [Unfinished] named
	// where the run is: a home may be shared, and numbers of processes are not
	Computer string `json:"computer"`
}

// MayLeave notes in the state folder what this run may leave behind until done is called. What is there
// all the same, the next run takes away when this one is no more, and says so.
func MayLeave(state string, l Leaving) (done func(), err error) {
	coded := Leaving{}
	coded.Computer, _ = os.Hostname() // without a name it is this one
	for _, folder := range l.Beside {
		coded.Beside = append(coded.Beside, pathText(folder))
	}
	for _, path := range l.Unfinished {
		coded.Unfinished = append(coded.Unfinished, pathText(path))
	}
	text, err := json.Marshal(coded)
	if err != nil {
		return nil, err
	}
	path := filepath.Join(state, runMark+strconv.Itoa(os.Getpid())+"-"+rand.Text()[:8])
	err = AsOwner(state, func() error {
		if _, err := makeFolder(state); err != nil {
			return err
		}
		return disk.WriteFile(path, text, 0o600)
	})
	if err != nil {
		_ = AsOwner(state, func() error { return disk.Remove(path) }) // it may be half written
		return nil, err
	}
	return func() {
		if !slices.ContainsFunc(l.Unfinished, exists) {
			_ = AsOwner(state, func() error { return disk.Remove(path) }) // else the next run does
		}
	}, nil
}

func exists(path string) bool {
	_, err := os.Lstat(path)
	return err == nil
}

// Unfinished is where a folder is made until it is whole, for this run alone.
func Unfinished(path string) string {
	return filepath.Join(filepath.Dir(path), "."+strings.TrimPrefix(filepath.Base(path),
		".")+unfinishedMark+strconv.Itoa(os.Getpid()))
}

const unfinishedMark = ".unfinished-"

// cleanUp takes away what a run left behind that is no more, and its mark.
func (s *Station) cleanUp(mark string) (words []string, err error) {
	number, _, _ := strings.Cut(strings.TrimPrefix(filepath.Base(mark), runMark), "-")
	if Runs(number) {
		return nil, nil
	}
	var l Leaving
	text, err := regular.ReadOwn(mark, maxRecord)
	if err == nil && json.Unmarshal(text, &l) != nil { // one that is half written left nothing yet
		l = Leaving{Computer: s.Computer}
	}
	if l.Computer != s.Computer {
		return nil, err
	}
	for _, coded := range l.Beside {
		folder, pathErr := pathOf(coded)
		if pathErr != nil {
			continue
		}
		err = errors.Join(err, AsOwner(folder, func() error { return removeBeside(folder) }))
	}
	for _, coded := range l.Unfinished {
		path, pathErr := pathOf(coded)
		if pathErr != nil || !exists(path) || !strings.HasSuffix(path, unfinishedMark+number) {
			continue
		}
		err = errors.Join(err, AsOwner(path, func() error { return disk.RemoveAll(path) }))
		words = append(words, fmt.Sprintf("An earlier run was cut short. Unicrux removed what it left: %s.",
			s.Tilde(path)))
	}
	if err != nil {
		return words, err
	}
	return words, disk.Remove(mark)
}
