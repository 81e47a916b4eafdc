package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"anchorage.example/unicrux/core/hosts"
)

// TestCodes: each error has a code of its own in the form of a code, and every other one that of its exit status.
func TestCodes(t *testing.T) {
	t.Parallel()
	form, used := regexp.MustCompile(`^[a-z0-9]+(-[a-z0-9]+)*$`), map[string]bool{}
	for _, code := range faultCodes(t) {
		if !form.MatchString(code) || used[code] {
			t.Errorf("%q, twice or in no form of a code", code)
		}
		used[code] = true
	}
	if len(used) < 140 {
		t.Errorf("%d codes were found", len(used))
	}
	for code := range advice {
		if !used[code] {
			t.Errorf("advice for %q, which is no code", code)
		}
	}
	for err, want := range map[error]string{usage("x"): "usage", errStopped: "stopped",
		fmt.Errorf("forge: %w", hosts.ErrUnknown): "host-unknown", fmt.Errorf("anything else"): "failed"} {
		if got := asProblem(err).codeOf(); got != want {
			t.Errorf("%v: %q, want %q", err, got, want)
		}
	}
}

// faultCodes are those of the core's sources.
func faultCodes(t *testing.T) (codes []string) {
	t.Helper()
	made := regexp.MustCompile(`fault\.(?:New\(|Under\(\w+, )\s*"([^"]*)"`)
	err := filepath.WalkDir(filepath.Join("..", "core"), func(path string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		text, err := os.ReadFile(path)
		for _, found := range made.FindAllStringSubmatch(string(text), -1) {
			codes = append(codes, found[1])
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return codes
}

// TestWithoutCall: a path is told once, and no call of the system.
func TestWithoutCall(t *testing.T) {
	t.Parallel()
	failed := &fs.PathError{Op: "open", Path: "/home/ines/.ssh/config", Err: fs.ErrPermission}
	for _, row := range []struct {
		err  error
		want string
	}{
		{failed, "/home/ines/.ssh/config: permission denied"},
		{fmt.Errorf("~/.ssh/config: %w", failed), "~/.ssh/config: permission denied"},
		{fmt.Errorf("reading: %w: later", failed), "reading: /home/ines/.ssh/config: permission denied: later"},
		{errors.New("no such key"), "no such key"},
	} {
		if got := withoutCall(row.err); got != row.want {
			t.Errorf("%v: %q, want %q", row.err, got, row.want)
		}
	}
}
