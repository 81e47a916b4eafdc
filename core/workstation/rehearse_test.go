package workstation

import (
	"errors"
	"path/filepath"
	"testing"
)

// TestRehearse: what an older change would do once a newer one on the same lines is gone; nothing is touched, and a
// change that cannot be taken back stands in the way of those below it alone.
func TestRehearse(t *testing.T) {
	t.Parallel()
	s := station(t)
	file := filepath.Join(s.Home, "file")
	for _, line := range []string{"one\n", "two\n", "three\n"} {
		batch := s.Begin("Write "+line, false, "forge")
		whole := func([]byte) ([]byte, error) { return []byte(line), nil }
		if _, err := batch.Edit(file, "Add.", 0o600, whole); err != nil {
			t.Fatal(err)
		}
	}
	all := func(ids ...int) (failed []int) {
		list, err := s.Rehearse(ids)
		if err != nil || len(list) != len(ids) {
			t.Fatal(list, err)
		}
		for _, foreseen := range list {
			if foreseen.Err != nil {
				failed = append(failed, foreseen.ID)
				if !errors.Is(foreseen.Err, ErrEdited) {
					t.Error(foreseen.Err)
				}
			} else if len(foreseen.Differences) != 1 {
				t.Errorf("%+v", foreseen)
			}
		}
		return failed
	}
	if failed := all(3, 2, 1); failed != nil {
		t.Errorf("from the newest on: %v", failed)
	}
	if failed := all(2, 1); len(failed) != 2 {
		t.Errorf("below the newest: %v", failed)
	}
	if got := read(t, file); got != "three\n" {
		t.Errorf("touched: %q", got)
	}
}

// TestConcerns: which hosts a change is for.
func TestConcerns(t *testing.T) {
	t.Parallel()
	change := Change{Hosts: []string{"ines@forge"}, Steps: []Step{{Host: &HostStep{Host: "lantern"}}}}
	for name, want := range map[string]bool{"forge": true, "ines@forge": true, "lantern": true, "ines": false,
		"quay": false, "": false} {
		if change.Concerns("other", name) != want {
			t.Errorf("%q: %v", name, !want)
		}
	}
	if (Change{}).Concerns("") {
		t.Error("a change for no host is for one without a name")
	}
}
