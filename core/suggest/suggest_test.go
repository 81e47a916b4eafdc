package suggest

import "testing"

func TestDistance(t *testing.T) {
	for _, row := range []struct {
		a, b        string
		limit, want int
	}{
		{"", "", 3, 0}, {"forge", "forge", 3, 0}, {"forge", "fogre", 3, 2}, {"forge", "forg", 3, 1},
		{"forge", "xforge", 3, 1},
		{"forge", "saltmarsh", 3, 3}, {"frogе", "forge", 3, 3}, {"gorfe", "forge", 3, 2}, {"abc", "", 5, 3},
		{"", "abc", 2, 2},
	} {
		if got := Distance(row.a, row.b, row.limit); got != row.want {
			t.Errorf("%q, %q: %d, want %d", row.a, row.b, got, row.want)
		}
	}
}
