package workstation

import (
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
)

// TestLockLeftBehind: the lock of a run that was killed is taken away by the next; another program's, and
// that of a run that goes on, stay.
func TestLockLeftBehind(t *testing.T) {
	s := station(t)
	ended := exec.Command("true")
	if err := ended.Run(); err != nil {
		t.Fatal(err)
	}
	dead, self := strconv.Itoa(ended.Process.Pid), strconv.Itoa(os.Getpid())
	for _, row := range []struct {
		name, folder, mark string
		stays              bool
	}{
		{"dead", dead, s.lockMark(dead), false},
		{"git's", dead, "[user]\n", true},
		{"another's", dead, s.lockMark("1"), true},
		{"going on", self, s.lockMark(self), true},
	} {
		lock, scratch := filepath.Join(s.Home, "config.lock"), filepath.Join(s.scratchFolder(), row.folder+"-1")
		if err := os.MkdirAll(scratch, 0o700); err != nil {
			t.Fatal(err)
		}
		for path, text := range map[string]string{lock: row.mark, filepath.Join(scratch, lockNote): lock} {
			if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
				t.Fatal(err)
			}
		}
		words, err := s.Tidy()
		_, gone := os.Lstat(lock)
		if err != nil || (gone == nil) != row.stays ||
			(len(words) == 1 && strings.Contains(words[0], "config.lock")) == row.stays {
			t.Errorf("%s: %q, %v, %v", row.name, words, err, gone)
		}
		if err := os.RemoveAll(scratch); err != nil {
			t.Fatal(err)
		}
	}
}

// TestLockOfAnotherComputer: in a home that several share, the number of a process says nothing about what
// runs on the others.
func TestLockOfAnotherComputer(t *testing.T) {
	s := station(t)
	other := *s
	other.Computer = "skiff"
	lock := filepath.Join(s.Home, "config.lock")
	unlock, err := other.lockOthers(lock)
	if err != nil {
		t.Fatal(err)
	}
	defer unlock()
	if dead := s.deadScratch(); len(dead) > 0 {
		t.Errorf("taken for dead: %q", dead)
	}
	if isOurs(lock, s.lockMark(strconv.Itoa(os.Getpid()))) {
		t.Error("its lock is taken for one of this computer")
	}
}

// TestLockOthers holds a lock with a name in it, and leaves neither it nor its note.
func TestLockOthers(t *testing.T) {
	s := station(t)
	lock := filepath.Join(s.Home, "config.lock")
	unlock, err := s.lockOthers(lock)
	if err != nil {
		t.Fatal(err)
	}
	if text := read(t, lock); text != s.lockMark(strconv.Itoa(os.Getpid())) {
		t.Errorf("%q", text)
	}
	unlock()
	left, err := os.ReadDir(s.scratchFolder())
	if _, gone := os.Lstat(lock); gone == nil || err != nil || len(left) > 0 {
		t.Errorf("left: %v, %v", left, err)
	}
	if _, err := s.lockOthers(filepath.Join(s.Home, "none", "x.lock")); err == nil {
		t.Error("in a folder that there is not")
	}
}
