//go:build !windows

package workstation

import (
	"errors"
	"os"
	"path/filepath"
	"syscall"
	"testing"
)

// TestRootLeavesFilesToTheirOwner edits and makes files in somebody else's home.
func TestRootLeavesFilesToTheirOwner(t *testing.T) {
	if os.Geteuid() != 0 { // nobody else can give files away, nor needs to
		return
	}
	s := station(t)
	const somebody = 12345
	old := filepath.Join(s.Home, "old")
	write(t, old, "one\n", 0o600)
	if err := errors.Join(os.Chown(old, somebody, somebody), os.Chown(s.Home, somebody, somebody)); err != nil {
		t.Fatal(err)
	}
	batch := s.Begin("Test.", false)
	for _, path := range []string{old, filepath.Join(s.Home, "folder", "new")} {
		if _, err := batch.Edit(path, "Add.", 0o600, put("two\n")); err != nil {
			t.Fatal(err)
		}
		info, err := os.Stat(path)
		if err != nil {
			t.Fatal(err)
		}
		if owner := info.Sys().(*syscall.Stat_t).Uid; owner != somebody {
			t.Errorf("%s belongs to %d", path, owner)
		}
	}
}
