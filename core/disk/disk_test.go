package disk

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestEachCallMayFail: whatever changes something on the disk can be let fail, and then changes nothing. A call that is
// left out of this list is one that no fault would reach.
func TestEachCallMayFail(t *testing.T) {
	failure := errors.New("no space left")
	for name, call := range map[string]func(dir string) error{
		"rename":    func(dir string) error { return Rename(filepath.Join(dir, "a"), filepath.Join(dir, "b")) },
		"link":      func(dir string) error { return Link(filepath.Join(dir, "a"), filepath.Join(dir, "b")) },
		"remove":    func(dir string) error { return Remove(filepath.Join(dir, "a")) },
		"removeall": func(dir string) error { return RemoveAll(filepath.Join(dir, "a")) },
		"mkdir":     func(dir string) error { return Mkdir(filepath.Join(dir, "b"), 0o700) },
		"mkdirall":  func(dir string) error { return MkdirAll(filepath.Join(dir, "b", "c"), 0o700) },
		"mkdirtemp": func(dir string) error { _, err := MkdirTemp(dir, "x"); return err },
		"chmod":     func(dir string) error { return Chmod(filepath.Join(dir, "a"), 0o600) },
		"writefile": func(dir string) error { return WriteFile(filepath.Join(dir, "b"), []byte("x"), 0o600) },
		"sync":      func(dir string) error { return SyncFolder(dir) },
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			if err := os.WriteFile(filepath.Join(dir, "a"), []byte("a"), 0o644); err != nil {
				t.Fatal(err)
			}
			before = func(string, string) error { return failure }
			err := call(dir)
			before = nil
			var path *fs.PathError
			if !errors.Is(err, failure) || !errors.As(err, &path) || path.Path == "" {
				t.Errorf("it does not fail: %v", err)
			}
			info, statErr := os.Stat(filepath.Join(dir, "a"))
			entries, _ := os.ReadDir(dir)
			if statErr != nil || info.Mode().Perm() != 0o644 || len(entries) != 1 {
				t.Errorf("it changed something: %v, %v", entries, statErr)
			}
			if err := call(dir); err != nil {
				t.Errorf("and without the fault: %v", err)
			}
		})
	}
}

// TestFile writes through a file whose every call may fail.
func TestFile(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a")
	f, err := OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := f.Write([]byte("text")); err != nil {
		t.Error(err)
	}
	if err := errors.Join(f.Sync(), f.Close()); err != nil {
		t.Error(err)
	}
	if text, err := os.ReadFile(path); err != nil || string(text) != "text" {
		t.Errorf("%q, %v", text, err)
	}
	calls := ""
	before = func(call, _ string) error { calls += call + " "; return nil }
	defer func() { before = nil }()
	if err := WriteFile(path, []byte("other"), 0o600); err != nil {
		t.Error(err)
	}
	if !strings.Contains(calls, "write") {
		t.Errorf("no fault would reach the writing: %s", calls)
	}
}
