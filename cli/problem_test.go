package cli

import (
	"fmt"
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
