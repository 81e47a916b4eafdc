package workstation

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"anchorage.example/unicrux/core/disk"
	"anchorage.example/unicrux/core/fault"
	"anchorage.example/unicrux/core/regular"
)

// othersPatience bounds the wait for another program, which holds a lock for the time of one edit.
const othersPatience = 5 * time.Second

// ErrLocked is returned for a file that another program has locked.
var ErrLocked = fault.New("file-locked", fault.Failed, "another program, most likely git, is changing this file")

// lockNote is the file in a scratch folder that names a lock which its run holds.
const lockNote = "lock"

// lockMark is what stands in a lock file of ours: whose it is.
func (s *Station) lockMark(pid string) string { return "unicrux " + pid + " " + s.Computer + "\n" }

// lockOthers makes a lock file, which must not be there yet: other programs leave what it belongs to
// alone as long as it is. Where it is, is noted first, so that a run that is killed keeps nobody out for
// longer than until the next run of ours.
func (s *Station) lockOthers(lock string) (unlock func(), err error) {
	folder, remove, err := s.Scratch()
	if err != nil {
		return nil, err
	}
	mark := s.lockMark(strconv.Itoa(os.Getpid()))
	unlock = func() {
		if isOurs(lock, mark) && disk.Remove(lock) != nil {
			return // the note stays, by which the next run takes the lock away
		}
		remove()
	}
	if err = disk.WriteFile(filepath.Join(folder, lockNote), []byte(lock), 0o600); err == nil {
		err = makeLock(lock, mark)
	}
	if errors.Is(err, ErrLocked) {
		remove()
	} else if err != nil && isOurs(lock, mark) {
		err = errors.Join(err, disk.Remove(lock)) // the note stays: something may be left beside the lock
	}
	if err != nil {
		return nil, err
	}
	return unlock, nil
}

// isOurs tells whether a lock is there and has our mark.
func isOurs(lock, mark string) bool {
	text, err := regular.ReadOwn(lock, 1<<10)
	return err == nil && string(text) == mark
}

// makeLock makes a lock file with its mark in it at once, so that one of ours is always known as such.
func makeLock(lock, mark string) error {
	for deadline := time.Now().Add(othersPatience); ; time.Sleep(10 * time.Millisecond) {
		err := create(lock, []byte(mark), 0o600)
		if !errors.Is(err, ErrExists) {
			return err
		}
		if time.Now().After(deadline) {
			return fmt.Errorf("%s: %w", lock, ErrLocked)
		}
	}
}

// freeLock takes a lock away that a run left behind which is no more, and says so.
func (s *Station) freeLock(scratch string) (words []string, err error) {
	text, err := regular.ReadOwn(filepath.Join(scratch, lockNote), 1<<16)
	if err != nil { // most hold none
		return nil, nil
	}
	lock := string(text)
	if err := AsOwner(filepath.Dir(lock), func() error { return removeBeside(filepath.Dir(lock)) }); err != nil {
		return nil, err
	}
	pid, _, _ := strings.Cut(filepath.Base(scratch), "-")
	if !isOurs(lock, s.lockMark(pid)) {
		return nil, nil
	}
	err = AsOwner(lock, func() error { return disk.Remove(lock) })
	return []string{fmt.Sprintf("An earlier run was cut short while it held %s. Unicrux removed that lock.",
		s.Tilde(lock))}, err
}
