package identity

import (
	"errors"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"testing"
	"time"
)

// TestAs reads a file that only its owner may read, as the owner and as somebody else, through a link as well.
func TestAs(t *testing.T) {
	if runtime.GOOS != "linux" || os.Geteuid() != 0 {
		if err := As(Who{UID: os.Geteuid() + 1}, time.Minute,
			func() { t.Error("done as somebody else") }); !errors.Is(err,
			ErrUnable) {
			t.Error(err)
		}
		return
	}
	dir := t.TempDir()
	for at := dir; at != filepath.Dir(at) && at != os.TempDir(); at = filepath.Dir(at) {
		if err := os.Chmod(at, 0o755); err != nil { //nolint:gosec // others are to come in
			t.Fatal(err)
		}
	}
	owned, link := filepath.Join(dir, "owned"), filepath.Join(dir, "link")
	err := errors.Join(os.WriteFile(owned, []byte("tide"), 0o600), os.Chown(owned, 4001, 4001),
		os.Symlink("/etc/shadow", link))
	if err != nil {
		t.Fatal(err)
	}
	for _, row := range []struct {
		who  int
		path string
		want bool
	}{{4001, owned, true}, {4002, owned, false}, {4001, link, false}, {0, owned, true}, {0, link, true}} {
		err := As(Who{UID: row.who, GID: row.who}, time.Minute, func() {
			if _, err := os.ReadFile(row.path); (err == nil) != row.want {
				t.Errorf("%d reads %s: %v", row.who, row.path, err)
			}
		})
		if err != nil {
			t.Error(err)
		}
	}
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	before, err := os.Getgroups()
	if err != nil {
		t.Fatal(err)
	}
	for range 3 { // on this thread
		if err := as(Who{UID: 4001, GID: 4001, Groups: []int{4002}}, func() {}); err != nil {
			t.Fatal(err)
		}
	}
	if after, err := os.Getgroups(); err != nil || !slices.Equal(after, before) {
		t.Errorf("this process has other groups than before: %v, %v %v", before, after, err)
	}
	if _, err := os.ReadFile(link); err != nil {
		t.Error("this process has other rights than before:", err)
	}
}

// TestAsLate: nobody waits for what never ends.
func TestAsLate(t *testing.T) {
	never := make(chan struct{})
	defer close(never)
	if err := As(Who{UID: os.Geteuid(), GID: os.Getegid()}, time.Millisecond, func() { <-never }); !errors.Is(err,
		ErrLate) {
		t.Error(err)
	}
}
