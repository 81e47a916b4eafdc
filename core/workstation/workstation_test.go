package workstation

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"anchorage.example/unicrux/agreement"
	"anchorage.example/unicrux/core/person"
)

func station(t *testing.T) *Station {
	t.Helper()
	home := t.TempDir()
	return &Station{Person: person.Person{Home: home, SSHHome: home, State: filepath.Join(home, "state")},
		Now: func() time.Time { return time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC) }}
}

func write(t *testing.T, path, text string, mode fs.FileMode) {
	t.Helper()
	if err := os.WriteFile(path, []byte(text), mode); err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(path, mode); err != nil {
		t.Fatal(err)
	}
}

func read(t *testing.T, path string) string {
	t.Helper()
	text, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}

func put(text string) func([]byte) ([]byte, error) {
	return func(old []byte) ([]byte, error) { return append(old, text...), nil }
}

func TestEditFollowsLinksAndKeepsTheMode(t *testing.T) {
	s := station(t)
	real, link := filepath.Join(s.Home, "real"), filepath.Join(s.Home, "link")
	write(t, real, "one\n", 0o640)
	if err := os.Symlink("real", link); err != nil {
		t.Fatal(err)
	}
	batch := s.Begin("Test.", false)
	changed, err := batch.Edit(link, "Add a line.", 0o600, put("two\n"))
	if err != nil || !changed || read(t, real) != "one\ntwo\n" {
		t.Fatalf("%v, %v: %q", changed, err, read(t, real))
	}
	if info, err := os.Lstat(link); err != nil || info.Mode()&fs.ModeSymlink == 0 {
		t.Errorf("the link is gone: %v, %v", info, err)
	}
	if info, err := os.Stat(real); err != nil || info.Mode().Perm() != 0o640 {
		t.Errorf("mode %v, %v", info.Mode(), err)
	}
	if changed, err := batch.Edit(link, "Nothing.", 0o600, put("")); changed || err != nil {
		t.Errorf("an edit that changes nothing: %v, %v", changed, err)
	}
	changes, err := s.Changes()
	if err != nil || len(changes) != 1 || len(changes[0].Steps) != 1 {
		t.Fatalf("the record: %+v, %v", changes, err)
	}
	step := changes[0].Steps[0]
	if !step.Done || step.File.Path != real || len(step.File.Edits) != 1 ||
		string(step.File.Edits[0].Added) != "two\n" || step.File.Before.Bytes != nil ||
		step.File.After.Sum != sum([]byte("one\ntwo\n")) {
		t.Errorf("the step: %+v", step)
	}
}

func TestCreateNeverReplaces(t *testing.T) {
	s := station(t)
	path := filepath.Join(s.Home, "deep", "key")
	batch := s.Begin("Test.", false)
	if err := batch.Create(path, "Make it.", 0o600, []byte("a text that nobody else may see"), true); err != nil {
		t.Fatal(err)
	}
	if info, err := os.Stat(filepath.Dir(path)); err != nil || info.Mode().Perm() != 0o700 {
		t.Errorf("its folder: %v, %v", info.Mode(), err)
	}
	if err := batch.Create(path, "Again.", 0o600, []byte("x"), true); !errors.Is(err, ErrExists) {
		t.Errorf("again: %v", err)
	}
	dangling := filepath.Join(s.Home, "dangling")
	if err := os.Symlink("nowhere", dangling); err != nil {
		t.Fatal(err)
	}
	if err := create(dangling, []byte("x"), 0o600); !errors.Is(err, ErrExists) {
		t.Errorf("over a dangling link: %v", err)
	}
	if read(t, path) != "a text that nobody else may see" {
		t.Errorf("content %q", read(t, path))
	}
	if record := read(t, s.recordPath(1)); agreement.Trace(record, "a text that nobody else may see") != "" ||
		!strings.Contains(record, `"secret": true`) {
		t.Errorf("the record holds the secret, or does not say that there is one: %s", record)
	}
	left, err := filepath.Glob(filepath.Join(filepath.Dir(path), besideMark+"*"))
	if err != nil || len(left) > 0 {
		t.Errorf("left behind: %v, %v", left, err)
	}
}

func TestDryRunSeesItsOwnEdits(t *testing.T) {
	s := station(t)
	path := filepath.Join(s.Home, "file")
	batch := s.Begin("Test.", true)
	for _, text := range []string{"one\n", "two\n"} {
		if _, err := batch.Edit(path, "Add.", 0o600, put(text)); err != nil {
			t.Fatal(err)
		}
	}
	if err := batch.Create(filepath.Join(s.Home, "key"), "Make it.", 0o600, []byte("secret"), true); err != nil {
		t.Fatal(err)
	}
	list := batch.Differences()
	if len(list) != 3 || string(list[1].Before) != "one\n" || string(list[1].After) != "one\ntwo\n" ||
		list[0].Before != nil || list[2].After != nil {
		t.Errorf("%+v", list)
	}
	if entries, err := os.ReadDir(s.Home); err != nil || len(entries) > 0 {
		t.Errorf("a dry run made %v, %v", entries, err)
	}
}

func TestFailedEditsLeaveEverything(t *testing.T) {
	s := station(t)
	path := filepath.Join(s.Home, "file")
	write(t, path, "one\n", 0o600)
	broken := errors.New("broken")
	if _, err := s.Begin("Test.", false).Edit(path, "Fail.", 0o600,
		func([]byte) ([]byte, error) { return nil, broken }); !errors.Is(err, broken) {
		t.Errorf("%v", err)
	}
	if _, err := s.Begin("Test.", false).Edit(s.Home, "A folder.", 0o600, put("x")); err == nil {
		t.Error("a folder was edited")
	}
	if err := os.Symlink("loop", filepath.Join(s.Home, "loop")); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Begin("Test.", false).Edit(filepath.Join(s.Home, "loop"), "A loop.", 0o600, put("x")); err == nil {
		t.Error("a loop of links was edited")
	}
	if changes, err := s.Changes(); err != nil || len(changes) > 0 || read(t, path) != "one\n" {
		t.Errorf("%+v, %v", changes, err)
	}
}

func TestFiftyAtOnceLoseNothing(t *testing.T) {
	s := station(t)
	path := filepath.Join(s.Home, "file")
	var group sync.WaitGroup
	for i := range 50 {
		group.Go(func() {
			if _, err := s.Begin("Test.", false).Edit(path, "Add.", 0o600, put(fmt.Sprintf("%02d\n", i))); err != nil {
				t.Error(err)
			}
		})
	}
	group.Wait()
	if lines := bytes.Count([]byte(read(t, path)), []byte("\n")); lines != 50 {
		t.Errorf("%d lines of 50", lines)
	}
	if changes, err := s.Changes(); err != nil || len(changes) != 50 {
		t.Errorf("%d changes of 50, %v", len(changes), err)
	}
}

func TestHere(t *testing.T) {
	s, err := Here([]string{"HOME=/homes/ines", "XDG_CONFIG_HOME=relative", "XDG_DATA_HOME=/data",
		"UNICRUX_STATE=/state", "A=1", "A=2"})
	if err != nil {
		t.Fatal(err)
	}
	if s.Home != "/homes/ines" || s.Data != "/data/unicrux" || s.State != "/state" ||
		strings.Contains(s.Config, "relative") {
		t.Errorf("%+v", s)
	}
	if s.Getenv("A") != "2" || s.Getenv("B") != "" {
		t.Errorf("the last of two variables counts: %q", s.Getenv("A"))
	}
	if s.SameHome() {
		t.Error("two homes are taken for one")
	}
	if got := s.Tilde("/homes/ines/.ssh/x"); got != "~/.ssh/x" {
		t.Errorf("Tilde: %q", got)
	}
	if got := s.Tilde("/homes/inesx"); got != "/homes/inesx" {
		t.Errorf("Tilde: %q", got)
	}
	if got := s.SSHPath("/homes/ines/.ssh/x"); got != "/homes/ines/.ssh/x" {
		t.Errorf("SSHPath in another home: %q", got)
	}
}
