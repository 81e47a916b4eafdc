package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"regexp"
	"testing"

	"anchorage.example/unicrux/core/hosts"
)

// TestCodes: each error has a code of its own in the form of a code, and every other one that of its exit status.
func TestCodes(t *testing.T) {
	t.Parallel()
	form, used := regexp.MustCompile(`^[a-z0-9]+(-[a-z0-9]+)*$`), map[string]bool{}
	for _, row := range advices {
		if !form.MatchString(row.code) || used[row.code] {
			t.Errorf("%v: %q, twice or in no form of a code", row.err, row.code)
		}
		used[row.code] = true
	}
	for err, want := range map[error]string{usage("x"): "usage", errStopped: "stopped",
		fmt.Errorf("forge: %w", hosts.ErrUnknown): "host-unknown", fmt.Errorf("anything else"): "failed"} {
		if got := asProblem(err).codeOf(); got != want {
			t.Errorf("%v: %q, want %q", err, got, want)
		}
	}
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
