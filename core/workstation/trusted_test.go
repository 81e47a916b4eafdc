//go:build unix

package workstation_test

import (
	"os"
	"path/filepath"
	"testing"

	"anchorage.example/unicrux/core/person"
	"anchorage.example/unicrux/core/workstation"
)

// TestTrusted: a file counts where nobody else can write it, or a folder above it, or what a link on the way leads to.
func TestTrusted(t *testing.T) {
	t.Parallel()
	s := &workstation.Station{Person: person.Person{UID: os.Getuid()}}
	home := t.TempDir()
	deep := filepath.Join(home, "a", "b")
	file := filepath.Join(deep, "file")
	link := filepath.Join(home, "link")
	if err := os.MkdirAll(deep, 0o700); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(file, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink(deep, link); err != nil {
		t.Fatal(err)
	}
	for _, path := range []string{file, filepath.Join(link, "file")} {
		if !s.Trusted(path) {
			t.Errorf("%s: not trusted", path)
		}
		for _, place := range []string{file, deep, filepath.Join(home, "a"), home} {
			info, err := os.Stat(place)
			if err != nil {
				t.Fatal(err)
			}
			for mode, want := range map[os.FileMode]bool{0o020: false, 0o002: false, 0o044: true,
				0o022 | os.ModeSticky: place != file} {
				if err := os.Chmod(place, info.Mode()|mode); err != nil {
					t.Fatal(err)
				}
				if got := s.Trusted(path); got != want {
					t.Errorf("%s, %s with %s: %v", path, place, mode, got)
				}
			}
			if err := os.Chmod(place, info.Mode()); err != nil {
				t.Fatal(err)
			}
		}
	}
	other := &workstation.Station{Person: person.Person{UID: os.Getuid() + 1}}
	if got, want := other.Trusted(file), os.Getuid() == 0; got != want {
		t.Errorf("another's: %v", got)
	}
	if s.Trusted(filepath.Join(home, "none")) {
		t.Error("a file that is not there")
	}
}
