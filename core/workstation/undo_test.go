package workstation

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// batch makes one change of every kind of step on files.
func everyStep(t *testing.T, s *Station) (old, made, key string) {
	t.Helper()
	old, made, key = filepath.Join(s.Home, "old"), filepath.Join(s.Home, "a", "b", "made"),
		filepath.Join(s.Home, "a", "key")
	write(t, old, "one\n", 0o640)
	batch := s.Begin("Test.", false)
	for range 2 {
		if _, err := batch.Edit(old, "Add.", 0o600, put("two\n")); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := batch.Edit(made, "Make it.", 0o600, put("new\n")); err != nil {
		t.Fatal(err)
	}
	if err := batch.Create(key, "Make a key.", 0o644, []byte("secret"), true); err != nil {
		t.Fatal(err)
	}
	if err := batch.Mode(key, "Keep it private.", 0o600); err != nil {
		t.Fatal(err)
	}
	step := HostStep{Host: "forge", Act: "add-key", Data: map[string]string{}}
	if err := batch.Act(t.Context(), "Register it.", step,
		func() (map[string]string, error) { return map[string]string{"id": "7"}, nil }); err != nil {
		t.Fatal(err)
	}
	return old, made, key
}

// TestOddHomes: a home may have any name that the system allows.
func TestOddHomes(t *testing.T) {
	for _, name := range []string{"qu\"ote", "sin'gle", "per%d", "dollar${HOME}", "non\xffutf", "new\nline",
		"star*", "base64:x"} {
		s := station(t)
		for _, folder := range []*string{&s.Home, &s.State} {
			*folder = filepath.Join(*folder, name)
		}
		path := filepath.Join(s.Home, "folder", name)
		batch := s.Begin("Test.", false)
		batch.About(map[string]string{"by": path})
		if _, err := batch.Edit(path, "Make.", 0o600, put("one\n")); err != nil {
			t.Errorf("%q: %v", name, err)
			continue
		}
		changes, err := s.Changes()
		if err != nil || len(changes) != 1 || changes[0].Unread != nil || changes[0].Steps[0].File.Path != path ||
			changes[0].About["by"] != path {
			t.Fatalf("%q: %+v, %v", name, changes, err)
		}
		if undone, _, err := s.Undo(0, false, nil); err != nil || undone.Change.ID != 1 {
			t.Errorf("%q: %v", name, err)
		}
		if _, err := os.Lstat(filepath.Dir(path)); err == nil {
			t.Errorf("%q: something is left", name)
		}
	}
}

func TestUndoBringsEveryByteBack(t *testing.T) {
	s := station(t)
	old, _, _ := everyStep(t, s)
	var withdrawn []string
	undone, _, err := s.Undo(0, false, func(step HostStep) error {
		withdrawn = append(withdrawn, step.Data["id"])
		return nil
	})
	if err != nil || len(withdrawn) != 1 || withdrawn[0] != "7" {
		t.Fatalf("withdrawn %v, %v", withdrawn, err)
	}
	if info, err := os.Stat(old); err != nil || read(t, old) != "one\n" || info.Mode().Perm() != 0o640 {
		t.Errorf("%q, %v, %v", read(t, old), info.Mode(), err)
	}
	if _, err := os.Stat(filepath.Join(s.Home, "a")); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("the folders that were made are still there: %v", err)
	}
	if len(undone.SetAside) != 1 || read(t, undone.SetAside[0]) != "secret" {
		t.Errorf("the key was not set aside: %v", undone.SetAside)
	}
	if _, _, err := s.Undo(1, false, nil); !errors.Is(err, ErrUndone) {
		t.Errorf("a second undo: %v", err)
	}
	if _, _, err := s.Undo(0, false, nil); !errors.Is(err, ErrNoChange) {
		t.Errorf("nothing is left: %v", err)
	}
	if _, _, err := s.Undo(9, false, nil); !errors.Is(err, ErrNoChange) {
		t.Errorf("no such change: %v", err)
	}
}

func TestUndoRefusesWhatItDoesNotFind(t *testing.T) {
	s := station(t)
	old, made, _ := everyStep(t, s)
	write(t, old, "mine\n", 0o640)
	asked := false
	_, _, err := s.Undo(1, false, func(HostStep) error { asked = true; return nil })
	var edited *EditedError
	if !errors.As(err, &edited) || len(edited.Ours) != 1 || string(edited.Ours[0].Added) != "two\n" ||
		edited.By != 0 || asked {
		t.Fatalf("%v, asked the host: %v", err, asked)
	}
	if read(t, old) != "mine\n" || read(t, made) != "new\n" {
		t.Error("something was changed all the same")
	}
	write(t, old, "one\ntwo\ntwo\n", 0o640)
	if _, err := s.Begin("Later.", false).Edit(old, "Put.", 0o600,
		func([]byte) ([]byte, error) { return []byte("other\n"), nil }); err != nil {
		t.Fatal(err)
	}
	if _, _, err := s.Undo(1, false, nil); !errors.As(err, &edited) || edited.By != 2 {
		t.Errorf("edited by a later change: %v", err)
	}
}

// TestUndoTakesOutItsOwnLines edits a file before and after a change was made, and takes that back.
func TestUndoTakesOutItsOwnLines(t *testing.T) {
	for _, row := range []struct{ name, before, after, since, want string }{
		{"more behind", "one\n", "one\nours\n", "one\nours\nmine\n", "one\nmine\n"},
		{"more before", "one\n", "one\nours\n", "mine\none\nours\n", "mine\none\n"},
		{"all around", "a\nb\n", "a\nours\nb\n", "x\na\nours\nb\ny\n", "x\na\nb\ny\n"},
		{"taken out", "a\ntheirs\nb\n", "a\nb\n", "x\na\nb\ny\n", "x\na\ntheirs\nb\ny\n"},
		{"put in place of", "a\ntheirs\nb\n", "a\nours\nb\n", "x\na\nours\nb\n", "x\na\ntheirs\nb\n"},
		{"two places", "a\nb\nc\n", "1\na\nb\nc\n2\n", "x\n1\na\nb\nmine\nc\n2\ny\n", "x\na\nb\nmine\nc\ny\n"},
		{"the same line of theirs elsewhere", "a\n", "a\nours\n", "ours\nx\na\nours\n", "ours\nx\na\n"},
		{"a new file", "", "ours\n", "ours\nmine\n", "mine\n"},
		{"not found", "a\n", "a\nours\n", "a\nchanged\n", ""},
		{"told by what is around it", "a\n", "a\nours\n", "ours\nx\nours\n", "ours\nx\n"},
		{"in doubt", "a\n", "a\nours\n", "y\nours\nx\nours\nz\n", ""},
		{"in doubt where it was", "a\ntheirs\nb\n", "a\nb\n", "x\ny\n", ""},
	} {
		s := station(t)
		path := filepath.Join(s.Home, "file")
		if row.before != "" {
			write(t, path, row.before, 0o600)
		}
		if _, err := s.Begin("Test.", false).Edit(path, "Put.", 0o600,
			func([]byte) ([]byte, error) { return []byte(row.after), nil }); err != nil {
			t.Fatal(err)
		}
		write(t, path, row.since, 0o600)
		_, _, err := s.Undo(1, false, nil)
		var edited *EditedError
		if errors.As(err, &edited) != (row.want == "") {
			t.Errorf("%s: %v", row.name, err)
		}
		want := row.want
		if want == "" {
			want = row.since
		}
		if got := read(t, path); got != want {
			t.Errorf("%s: %q, want %q", row.name, got, want)
		}
	}
}

// TestUndoOfChangesAtOnce takes back three changes that were made at once, in every order: none stands
// in another's way for ever.
func TestUndoOfChangesAtOnce(t *testing.T) {
	for _, order := range [][]int{{1, 2, 3}, {3, 2, 1}, {2, 3, 1}} {
		s := station(t)
		path := filepath.Join(s.Home, "file")
		write(t, path, "mine\n", 0o600)
		batches := []*Batch{s.Begin("One.", false), s.Begin("Two.", false), s.Begin("Three.", false)}
		for round := range 2 {
			for i, b := range batches {
				if _, err := b.Edit(path, "Add.", 0o600, put(fmt.Sprintf("line %d of %d\n", round, i))); err != nil {
					t.Fatal(err)
				}
			}
		}
		for _, id := range order {
			if _, _, err := s.Undo(id, false, nil); err != nil {
				t.Errorf("%v: %d: %v", order, id, err)
			}
		}
		if got := read(t, path); got != "mine\n" {
			t.Errorf("%v: %q", order, got)
		}
	}
}

func TestUndoStoppedByTheHostChangesNothing(t *testing.T) {
	s := station(t)
	old, _, _ := everyStep(t, s)
	refused := errors.New("refused")
	if _, _, err := s.Undo(1, false, func(HostStep) error { return refused }); !errors.Is(err, refused) ||
		read(t, old) != "one\ntwo\ntwo\n" {
		t.Errorf("%v: %q", err, read(t, old))
	}
	if _, differences, err := s.Undo(1, true, nil); err != nil || len(differences) != 6 ||
		read(t, old) != "one\ntwo\ntwo\n" {
		t.Errorf("a dry run: %d, %v", len(differences), err)
	}
}

// TestTidy puts right what a run left that was killed before and after the rename.
func TestTidy(t *testing.T) {
	for _, row := range []struct {
		name    string
		renamed bool
	}{{"before", false}, {"after", true}} {
		t.Run(row.name, func(t *testing.T) {
			s := station(t)
			path := filepath.Join(s.Home, "dir", "file")
			batch := s.Begin("Test.", false)
			if _, err := batch.Edit(path, "Make it.", 0o600, put("new\n")); err != nil {
				t.Fatal(err)
			}
			change := batch.Change()
			change.Steps[0].Done = false
			if err := errors.Join(s.writeRecord(&change), s.markUnderway(1)); err != nil {
				t.Fatal(err)
			}
			if !row.renamed {
				if err := os.Rename(path, filepath.Join(filepath.Dir(path), besideMark+"0123")); err != nil {
					t.Fatal(err)
				}
			}
			words, err := s.Tidy()
			if err != nil || len(words) != 1 {
				t.Fatalf("%q, %v", words, err)
			}
			changes, err := s.Changes()
			if err != nil || (len(changes) == 1) != row.renamed {
				t.Errorf("the record: %+v, %v", changes, err)
			}
			if _, err := os.Stat(filepath.Dir(path)); (err == nil) != row.renamed {
				t.Errorf("its folder: %v", err)
			}
			if words, err := s.Tidy(); err != nil || words != nil {
				t.Errorf("the second time: %q, %v", words, err)
			}
		})
	}
}

// A refusal is an error of a host that declined.
type refusal struct{}

func (refusal) Error() string { return "refused" }
func (refusal) Refused() bool { return true }

// TestActsThatFail keeps a trace of an act whose answer was lost, and none of a refused one.
func TestActsThatFail(t *testing.T) {
	for _, row := range []struct {
		name string
		err  error
		left int
	}{{"refused", refusal{}, 0}, {"answer lost", errors.New("timed out"), 1}} {
		s := station(t)
		err := s.Begin("Test.", false).Act(t.Context(), "Register.", HostStep{Data: map[string]string{}},
			func() (map[string]string, error) { return nil, row.err })
		changes, readErr := s.Changes()
		if !errors.Is(err, row.err) || readErr != nil || len(changes) != row.left {
			t.Errorf("%s: %v; the record: %+v, %v", row.name, err, changes, readErr)
		}
		if row.left == 1 && (len(changes[0].Steps) != 1 || changes[0].Steps[0].Done) {
			t.Errorf("%s: %+v", row.name, changes[0].Steps)
		}
	}
}

func TestARewrittenSecretIsNotTakenBack(t *testing.T) {
	s := station(t)
	path := filepath.Join(s.Home, "key")
	write(t, path, "old secret", 0o600)
	if err := s.Begin("Test.", false).Rewrite(path, "Lock it.",
		func([]byte) ([]byte, error) { return []byte("new secret"), nil }); err != nil {
		t.Fatal(err)
	}
	if _, _, err := s.Undo(1, false, nil); !errors.Is(err, ErrSecret) || read(t, path) != "new secret" {
		t.Errorf("%v: %q", err, read(t, path))
	}
	if record := read(t, s.recordPath(1)); strings.Contains(record, "old secret") ||
		strings.Contains(record, "new secret") {
		t.Errorf("the record holds a secret: %s", record)
	}
}

// TestUndoLetsOthersWorkMeanwhile changes files while the host is being asked.
func TestUndoLetsOthersWorkMeanwhile(t *testing.T) {
	s := station(t)
	old, _, _ := everyStep(t, s)
	_, _, err := s.Undo(1, false, func(HostStep) error {
		_, err := s.Begin("Another.", false).Edit(filepath.Join(s.Home, "other"), "Add.", 0o600, put("x\n"))
		return err
	})
	if err != nil || read(t, old) != "one\n" {
		t.Errorf("%v: %q", err, read(t, old))
	}
	s = station(t)
	old, _, _ = everyStep(t, s)
	_, _, err = s.Undo(1, false, func(HostStep) error {
		_, err := s.Begin("Another.", false).Edit(old, "Add.", 0o600, put("three\n"))
		return err
	})
	var edited *EditedError
	if !errors.As(err, &edited) || edited.By != 2 || read(t, old) != "one\ntwo\ntwo\nthree\n" {
		t.Errorf("edited meanwhile: %v: %q", err, read(t, old))
	}
	s = station(t)
	old, made, _ := everyStep(t, s)
	_, _, err = s.Undo(1, false, func(HostStep) error {
		_, err := s.Begin("Another.", false).Edit(old, "Put.", 0o600,
			func([]byte) ([]byte, error) { return []byte("other\n"), nil })
		return err
	})
	if !errors.Is(err, ErrEdited) || read(t, made) != "new\n" {
		t.Errorf("put in its place meanwhile: %v", err)
	}
}

// TestWhatMayBeUndone: of the changes that were not taken back, the newest before another one whose lines are there.
func TestWhatMayBeUndone(t *testing.T) {
	s := station(t)
	put := func(name, text string) {
		t.Helper()
		if _, err := s.Begin("Put "+name+".", false).Edit(filepath.Join(s.Home, name), "Put.", 0o600,
			func([]byte) ([]byte, error) { return []byte(text), nil }); err != nil {
			t.Fatal(err)
		}
	}
	put("first", "one\n")
	put("second", "two\n")
	put("third", "three\n")
	write(t, filepath.Join(s.Home, "third"), "mine\n", 0o600)
	if list, err := s.Standing(); err != nil || !slices.Equal(list, []int{3, 2, 1}) {
		t.Errorf("%v, %v", list, err)
	}
	if got := s.MayUndo(4); got != 2 {
		t.Errorf("before the next one: %d", got)
	}
	if _, _, err := s.Undo(2, false, nil); err != nil {
		t.Fatal(err)
	}
	if list, _ := s.Standing(); !slices.Equal(list, []int{3, 1}) || s.MayUndo(3) != 1 || s.MayUndo(1) != 0 {
		t.Errorf("%v, %d, %d", list, s.MayUndo(3), s.MayUndo(1))
	}
}
