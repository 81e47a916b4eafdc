//go:build linux

package workstation

import (
	"errors"
	"os"
	"path/filepath"
	"slices"
	"syscall"
	"testing"

	"golang.org/x/sys/unix"
)

// TestRootLeavesFilesToTheirOwner edits and makes files in somebody else's home.
func TestRootLeavesFilesToTheirOwner(t *testing.T) {
	if os.Geteuid() != 0 { // nobody else can give files away, nor needs to
		return
	}
	s := station(t)
	const somebody = 12345
	passable(t, s.Home)
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

// TestAFileStaysTheSame: whoever may read a file, and what is known about it, stays as it was.
func TestAFileStaysTheSame(t *testing.T) {
	s := station(t)
	path := filepath.Join(s.Home, "config")
	write(t, path, "one\n", 0o640)
	if err := unix.Setxattr(path, "user.note", []byte("mine"), 0); err != nil && !errors.Is(err, unix.ENOTSUP) {
		t.Fatal(err)
	}
	// An access list by which the user 12345 may read: version, owner, user, group, mask, others (acl(5)).
	list := []byte{2, 0, 0, 0, 1, 0, 6, 0, 255, 255, 255, 255, 2, 0, 4, 0, 0x39, 0x30, 0, 0, 4, 0, 4, 0, 255, 255, 255,
		255, 16, 0, 4, 0, 255, 255, 255, 255, 32, 0, 0, 0, 255, 255, 255, 255}
	if err := unix.Setxattr(path, "system.posix_acl_access", list, 0); err != nil && !errors.Is(err, unix.ENOTSUP) {
		t.Fatal(err)
	}
	before, err := attributesOf(path)
	if err != nil && !errors.Is(err, unix.ENOTSUP) {
		t.Fatal(err)
	}
	if os.Geteuid() == 0 {
		if err := os.Chown(path, 0, 12345); err != nil {
			t.Fatal(err)
		}
	}
	batch := s.Begin("Test.", false)
	if _, err := batch.Edit(path, "Add.", 0o600, put("two\n")); err != nil {
		t.Fatal(err)
	}
	after, _ := attributesOf(path) // none where there were none
	info, err := os.Stat(path)
	if err != nil {
		t.Fatal(err)
	}
	if group := info.Sys().(*syscall.Stat_t).Gid; os.Geteuid() == 0 && group != 12345 {
		t.Errorf("its group is %d", group)
	}
	if !slices.Equal(before, after) || info.Mode().Perm() != 0o640 {
		t.Errorf("%v, %v became %v", info.Mode(), before, after)
	}
	if value, err := attribute(path, "user.note"); len(before) > 0 && (err != nil || string(value) != "mine") {
		t.Errorf("the note: %q, %v", value, err)
	}
	if err := os.Link(path, path+"2"); err != nil {
		t.Fatal(err)
	}
	if _, err := batch.Edit(path, "Add.", 0o600, put("three\n")); !errors.Is(err, ErrLinked) {
		t.Errorf("with two names: %v", err)
	}
	if text, err := os.ReadFile(path); err != nil || string(text) != "one\ntwo\n" || len(batch.Change().Steps) != 1 {
		t.Errorf("%q, %v, %v", text, err, batch.Change().Steps)
	}
}

// TestRootIsLedNowhere plays somebody in whose home root is at work, and who has put links there: to
// root's files, to another's, to folders, in the place of lock files, of the record, of the cache.
func TestRootIsLedNowhere(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Log("only root can be led anywhere")
		return
	}
	const somebody, another = 12345, 12346
	for name, link := range map[string]func(s *Station, victim string) error{
		"the file": func(s *Station, victim string) error {
			return os.Symlink(victim,
				filepath.Join(s.Home, "config"))
		},
		"through two links": func(s *Station, victim string) error {
			return errors.Join(os.Symlink("two", filepath.Join(s.Home, "config")),
				os.Symlink(victim, filepath.Join(s.Home, "two")))
		},
		"the lock": func(s *Station, victim string) error { return inState(s, "lock", victim) },
		"the mark": func(s *Station, victim string) error { return inState(s, "underway", victim) },
		"the record": func(s *Station, victim string) error {
			return inState(s,
				"changes", filepath.Dir(victim))
		},
		"the state folder": func(s *Station, victim string) error { return os.Symlink(filepath.Dir(victim), s.State) },
		"the cache": func(s *Station, victim string) error {
			return errors.Join(os.MkdirAll(filepath.Dir(s.Cache), 0o700), os.Symlink(filepath.Dir(victim), s.Cache))
		},
		"the folder of the file": func(s *Station, victim string) error {
			return os.Symlink(filepath.Dir(victim), filepath.Join(s.Home, "folder"))
		},
	} {
		for owner, whose := range map[int]string{0: "root's", another: "another's"} {
			s := station(t)
			s.Cache = filepath.Join(s.Home, ".cache", "unicrux")
			outside := filepath.Join(t.TempDir(), "outside")
			victim := filepath.Join(outside, "victim")
			if err := errors.Join(os.Mkdir(outside, 0o755), os.WriteFile(victim, []byte("mine\n"), 0o600),
				os.Chown(victim, owner, owner), os.Chown(outside, owner, owner)); err != nil {
				t.Fatal(err)
			}
			if err := errors.Join(os.MkdirAll(filepath.Dir(s.State), 0o755), link(s, victim),
				os.Chmod(filepath.Dir(outside), 0o755)); err != nil {
				t.Fatal(err)
			}
			passable(t, s.Home)
			err := filepath.WalkDir(s.Home, func(path string, _ os.DirEntry, err error) error {
				return errors.Join(err, os.Lchown(path, somebody, somebody))
			})
			if err != nil {
				t.Fatal(err)
			}
			batch := s.Begin("Test.", false)
			for _, path := range []string{"config", filepath.Join("folder", "victim"),
				filepath.Join("folder", "made")} {
				// whether it is refused or written elsewhere: below is what counts
				_, _ = batch.Edit(filepath.Join(s.Home, path), "Add.", 0o600, put("evil\n"))
			}
			s.Keep("victim", []byte("evil\n"))
			s.Keep("kept", nil)
			_, _ = s.Tidy()
			if unlock, err := s.Alone(t.Context(), "x", func() {}); err == nil {
				unlock()
			}
			if text := read(t, victim); text != "mine\n" {
				t.Errorf("%s, %s: led to %q", name, whose, text)
			}
			if entries, err := os.ReadDir(outside); err != nil || len(entries) != 1 {
				t.Errorf("%s, %s: left behind %v, %v", name, whose, entries, err)
			}
			if info, err := os.Stat(victim); err != nil || int(info.Sys().(*syscall.Stat_t).Uid) != owner {
				t.Errorf("%s, %s: given away", name, whose)
			}
			_ = filepath.WalkDir(s.Home, func(path string, entry os.DirEntry, err error) error {
				if info, err := os.Lstat(path); err == nil && info.Sys().(*syscall.Stat_t).Uid != somebody {
					t.Errorf("%s, %s: %s belongs to %d", name, whose, path, info.Sys().(*syscall.Stat_t).Uid)
				}
				return err
			})
			if fileUser() != 0 {
				t.Fatal("root is not itself any more")
			}
		}
	}
}

// passable lets everybody pass through the folders of a test, as through those above real homes.
func passable(t *testing.T, dir string) {
	t.Helper()
	for dir = filepath.Dir(dir); dir != filepath.Clean(os.TempDir()) && dir != "/"; dir = filepath.Dir(dir) {
		if err := os.Chmod(dir, 0o755); err != nil {
			t.Fatal(err)
		}
	}
}

// inState puts a link into the state folder.
func inState(s *Station, name, target string) error {
	return errors.Join(os.MkdirAll(s.State, 0o700), os.Symlink(target, filepath.Join(s.State, name)))
}
