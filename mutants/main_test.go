package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestTheListFits: each fault is still to be planted, in code that goes on changing.
func TestTheListFits(t *testing.T) {
	t.Parallel()
	faults, err := read("faults.txt")
	if err != nil || len(faults) < 60 {
		t.Fatalf("%d faults, %v", len(faults), err)
	}
	for _, f := range faults {
		text, err := os.ReadFile(filepath.Join("..", f.file))
		if err != nil {
			t.Error(err)
			continue
		}
		if n := strings.Count(string(text), f.from); n != 1 || f.from == f.to || f.words == "" || f.tests == "" {
			t.Errorf("%s: %s: its text is there %d times", f.file, f.words, n)
		}
	}
}
