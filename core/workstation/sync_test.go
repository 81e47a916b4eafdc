package workstation

import (
	"path/filepath"
	"slices"
	"testing"

	"anchorage.example/unicrux/core/disk"
)

// TestWhatIsWrittenSurvives: before a file gets its name its bytes are on the disk, and then its folder is. It is not
// parallel, since the disk is watched.
func TestWhatIsWrittenSurvives(t *testing.T) {
	folder := t.TempDir()
	there := filepath.Join(folder, "there")
	write(t, there, "old", 0o600)
	for name, row := range map[string]struct {
		call, path string
		change     func(path string) error
	}{
		"replaced": {"rename", there, func(path string) error { return Replace(path, []byte("new"), 0o600) }},
		"created": {"link", filepath.Join(folder, "new"),
			func(path string) error { return create(path, []byte("new"), 0o600) }},
	} {
		var seen [][2]string
		stop := disk.Watch(func(call, path string) { seen = append(seen, [2]string{call, path}) })
		err := row.change(row.path)
		stop()
		if err != nil {
			t.Fatal(name, err)
		}
		named := slices.Index(seen, [2]string{row.call, row.path})
		written := slices.IndexFunc(seen, func(s [2]string) bool { return s[0] == "sync" && s[1] != folder })
		if last := slices.Index(seen, [2]string{"sync", folder}); written < 0 || written > named || last < named {
			t.Errorf("%s: %q", name, seen)
		}
	}
}
