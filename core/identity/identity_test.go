package identity

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"testing"
	"time"
)

// TestEach reads a file that only its owner may read, as the owner and as others in turn, through a link as well.
func TestEach(t *testing.T) {
	var got []error
	note := func(i int, err error, problem error) {
		if i != len(got) {
			t.Errorf("%d after %d", i, len(got))
		}
		got = append(got, errors.Join(err, problem))
	}
	if runtime.GOOS != "linux" || os.Geteuid() != 0 {
		err := Each(t.Context(), []Who{{UID: os.Geteuid() + 1}, {UID: os.Geteuid()}}, time.Minute,
			func(int) error { return nil }, note)
		if err != nil || !errors.Is(got[0], ErrUnable) || got[1] != nil {
			t.Error(err, got)
		}
		return
	}
	dir := t.TempDir()
	for at := dir; at != filepath.Dir(at) && at != os.TempDir(); at = filepath.Dir(at) {
		if err := os.Chmod(at, 0o755); err != nil { //nolint:gosec // others are to come in
			t.Fatal(err)
		}
	}
	owned, grouped, link := filepath.Join(dir, "owned"), filepath.Join(dir, "grouped"), filepath.Join(dir, "link")
	err := errors.Join(os.WriteFile(owned, []byte("tide"), 0o600), os.Chown(owned, 4001, 4001),
		os.WriteFile(grouped, nil, 0o640), os.Chown(grouped, 0, 4003), os.Chmod(grouped, 0o640),
		os.Symlink("/etc/shadow", link))
	if err != nil {
		t.Fatal(err)
	}
	rows := []struct {
		who  Who
		path string
		want bool
	}{{Who{UID: 4001}, owned, true}, {Who{UID: 4002}, owned, false}, {Who{UID: 4001}, link, false},
		{Who{UID: 4001, Groups: []int{4003}}, grouped, true}, {Who{UID: 4001}, grouped, false}, {Who{}, owned, true},
		{Who{}, link, true}, {Who{UID: 4002}, owned, false}, {Who{UID: 4001}, owned, true}}
	var whos []Who
	for _, row := range rows {
		row.who.GID = row.who.UID
		whos = append(whos, row.who)
	}
	if err := Each(t.Context(), whos, time.Minute, func(i int) error {
		_, err := os.ReadFile(rows[i].path)
		return err
	}, note); err != nil {
		t.Error(err)
	}
	for i, row := range rows {
		if (got[i] == nil) != row.want {
			t.Errorf("%+v reads %s: %v", row.who, row.path, got[i])
		}
	}
	if _, err := os.ReadFile(link); err != nil {
		t.Error("this process has other rights than before:", err)
	}
	ownGroups(t)
}

// ownGroups: a thread has the very groups back that it had.
func ownGroups(t *testing.T) {
	t.Helper()
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	before, err := os.Getgroups()
	if err != nil {
		t.Fatal(err)
	}
	for range 3 { // on this thread
		mine := begin()
		if err := mine.as(Who{UID: 4001, GID: 4001, Groups: []int{4002}}); err != nil {
			t.Error(err)
		}
		mine.end()
	}
	if after, err := os.Getgroups(); err != nil || !slices.Equal(after, before) {
		t.Errorf("other groups than before: %v, %v %v", before, after, err)
	}
}

// TestEachLate: nobody waits for what never ends, and the others are looked at all the same.
func TestEachLate(t *testing.T) {
	never := make(chan struct{})
	defer close(never)
	me := Who{UID: os.Geteuid(), GID: os.Getegid()}
	var got [3]error
	err := Each(t.Context(), []Who{me, me, me}, 50*time.Millisecond, func(i int) int {
		if i == 1 {
			<-never
		}
		return i
	}, func(i, value int, err error) {
		if got[i] = err; err == nil && value != i {
			t.Errorf("%d brings %d", i, value)
		}
	})
	if err != nil || got[0] != nil || !errors.Is(got[1], ErrLate) || got[2] != nil {
		t.Error(err, got)
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if err := Each(ctx, []Who{me}, time.Minute, func(int) int { <-never; return 0 },
		func(int, int, error) {}); !errors.Is(err, context.Canceled) {
		t.Error("nobody wants it any more:", err)
	}
}
