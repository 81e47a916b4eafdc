package fault_test

import (
	"errors"
	"fmt"
	"testing"

	"anchorage.example/unicrux/core/fault"
)

// TestOf finds the first fault in an error, whatever wraps it; two alike are two.
func TestOf(t *testing.T) {
	t.Parallel()
	first, second := fault.New("first", fault.Refused, "no"), fault.New("second", fault.Failed, "no")
	under := fault.Under(first, "third", fault.Misused, "not at all")
	for _, row := range []struct {
		err  error
		want string
	}{
		{first, "first"}, {fmt.Errorf("forge: %w", second), "second"}, {fmt.Errorf("%w: %w", second, first), "second"},
		{errors.Join(errors.New("x"), first), "first"}, {under, "third"}, {errors.New("x"), ""}, {nil, ""},
	} {
		got := ""
		if f := fault.Of(row.err); f != nil {
			got = f.Code
		}
		if got != row.want {
			t.Errorf("%v: %q, want %q", row.err, got, row.want)
		}
	}
	if errors.Is(first, second) || !errors.Is(under, first) || errors.Is(under, second) {
		t.Error("faults are taken for each other")
	}
}
