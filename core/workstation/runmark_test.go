package workstation

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestCleanUp takes away what a run left that is no more, on this computer, and nothing else.
func TestCleanUp(t *testing.T) {
	const dead = "999999999" // no process has such a number (pid_max in proc(5))
	for name, row := range map[string]struct {
		process, computer string
		gone              bool
	}{
		"a run that is no more":   {dead, "", true},
		"one that goes on":        {"1", "", false},
		"one on another computer": {dead, "elsewhere", false},
	} {
		s := station(t)
		s.Computer, _ = os.Hostname()
		if row.computer == "" {
			row.computer = s.Computer
		}
		left, other := filepath.Join(s.Home, ".drift-model.unfinished-"+row.process), filepath.Join(s.Home, "mine")
		beside := filepath.Join(s.Home, besideMark+"x")
		for _, folder := range []string{left, other, s.State} {
			if err := os.MkdirAll(folder, 0o700); err != nil {
				t.Fatal(err)
			}
		}
		write(t, beside, "half", 0o600)
		text, err := json.Marshal(Leaving{Beside: []string{s.Home}, Unfinished: []string{left, other},
			Computer: row.computer})
		if err != nil {
			t.Fatal(err)
		}
		mark := filepath.Join(s.State, runMark+row.process+"-x")
		write(t, mark, string(text), 0o600)
		words, err := s.Tidy()
		if err != nil || strings.Contains(strings.Join(words, " "), "drift-model") != row.gone {
			t.Errorf("%s: %q, %v", name, words, err)
		}
		for path, gone := range map[string]bool{left: row.gone, beside: row.gone, mark: row.gone, other: false} {
			if exists(path) == gone {
				t.Errorf("%s: %s is there: %v", name, filepath.Base(path), !gone)
			}
		}
	}
}

// TestMayLeave notes where a run is, and takes the note away when nothing is left.
func TestMayLeave(t *testing.T) {
	s := station(t)
	folder := filepath.Join(s.Home, ".x.unfinished-1")
	done, err := MayLeave(s.State, Leaving{Unfinished: []string{folder}})
	if err != nil {
		t.Fatal(err)
	}
	marks := func() int {
		list, _ := filepath.Glob(filepath.Join(s.State, runMark+"*"))
		return len(list)
	}
	if err := os.Mkdir(folder, 0o700); err != nil {
		t.Fatal(err)
	}
	if done(); marks() != 1 {
		t.Error("the note is gone, and the folder is not")
	}
	if err := os.Remove(folder); err != nil {
		t.Fatal(err)
	}
	if done(); marks() != 0 {
		t.Error("the note stays")
	}
}
