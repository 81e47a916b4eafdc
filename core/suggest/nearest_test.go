package suggest

import "testing"

func TestNearest(t *testing.T) {
	for _, row := range []struct {
		word       string
		candidates []string
		want       string
	}{
		{"forg", []string{"saltmarsh", "forge"}, "forge"},
		{"FORG", []string{"forge"}, "forge"},
		{"forge", []string{"forge_ed25519", "lab"}, "forge_ed25519"},
		{"forge", []string{"forge_ed25519", "forge_rsa"}, ""}, // it could be either
		{"forge", []string{"forgf", "forge"}, ""},
		{"lab", []string{"hub"}, "hub"},
		{"a", []string{"b"}, ""}, // nothing of it is left
		{"", []string{"a"}, ""},
		{"harbour", []string{"forge", "saltmarsh"}, ""},
		{"frge", []string{"forged", "forge"}, "forge"},
	} {
		if got := Nearest(row.word, row.candidates); got != row.want {
			t.Errorf("%q of %q: %q, want %q", row.word, row.candidates, got, row.want)
		}
	}
}
