package lockfile

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"testing"
	"time"
)

func TestTake(t *testing.T) {
	t.Parallel()
	path := filepath.Join(t.TempDir(), "lock")
	unlock, err := Take(path, Wait{})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := Take(path, Wait{}); !errors.Is(err, ErrHeld) {
		t.Errorf("held, and not waited for: %v", err)
	}
	if _, err := Take(path, Wait{Most: 20 * time.Millisecond}); !errors.Is(err, ErrHeld) {
		t.Errorf("held for longer: %v", err)
	}
	stop := make(chan struct{})
	if _, err := Take(path, Wait{Most: time.Hour, Stop: stop, Waiting: func() { close(stop) }}); !errors.Is(err,
		context.Canceled) {
		t.Errorf("stopped: %v", err)
	}
	second, err := Take(path, Wait{Most: -1, Waiting: func() {
		if err := unlock(); err != nil {
			t.Error(err)
		}
	}})
	if err != nil {
		t.Fatalf("let go meanwhile: %v", err)
	}
	if err := second(); err != nil {
		t.Error(err)
	}
	if _, err := Take(filepath.Join(t.TempDir(), "none", "lock"), Wait{}); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("no folder: %v", err)
	}
}

func TestNoLink(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	if err := os.Symlink(filepath.Join(folder, "elsewhere"), filepath.Join(folder, "lock")); err != nil {
		t.Fatal(err)
	}
	if _, err := Take(filepath.Join(folder, "lock"), Wait{}); err == nil {
		t.Error("a link was followed")
	}
}
