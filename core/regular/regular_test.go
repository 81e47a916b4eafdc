//go:build !windows

package regular

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
)

func TestRead(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	path := func(name string) string { return filepath.Join(dir, name) }
	for name, text := range map[string]string{"file": "tide", "limit": strings.Repeat("a", 100),
		"over": strings.Repeat("a", 101)} {
		if err := os.WriteFile(path(name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	if err := errors.Join(syscall.Mkfifo(path("pipe"), 0o600), os.Mkdir(path("folder"), 0o700),
		os.Symlink(path("file"), path("link")),
		os.Symlink("/dev/zero", path("endless"))); err != nil {
		t.Fatal(err)
	}
	for _, row := range []struct {
		name string
		read func(string, int64) ([]byte, error)
		size int
		err  error
	}{
		{"file", Read, 4, nil}, {"limit", Read, 100, nil}, {"over", Read, 0, ErrTooLarge}, {"pipe", Read, 0, ErrNot},
		{"folder", Read, 0, ErrNot},
		{"endless", Read, 0, ErrNot}, {"none", Read, 0, os.ErrNotExist}, {"link", Read, 4, nil},
		{"file", ReadOwn, 4, nil}, {"link", ReadOwn, 0, syscall.ELOOP},
	} {
		text, err := row.read(path(row.name), 100)
		if stream, openErr := OpenStream(path(row.name)); openErr == nil {
			if (row.name == "folder" || row.name == "endless") == (openErr == nil) {
				t.Errorf("%s: taken for a stream", row.name)
			}
			_ = stream.Close()
		} else if row.name == "pipe" || row.name == "file" && row.err == nil {
			t.Errorf("%s: %v", row.name, openErr)
		}
		if len(text) != row.size || !errors.Is(err, row.err) {
			t.Errorf("%s: %d bytes, %v", row.name, len(text), err)
		}
	}
}
