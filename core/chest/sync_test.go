package chest

import (
	"path/filepath"
	"slices"
	"testing"

	"anchorage.example/unicrux/core/disk"
)

// TestTheMarkIsThereFirst: an entry is found by its mark, so that is on the disk before the entry is. It is not
// parallel, since the disk is watched.
func TestTheMarkIsThereFirst(t *testing.T) {
	c := held(t)
	if err := c.SetKind(Memory); err != nil {
		t.Fatal(err)
	}
	e := Entry{Name: "forge", Protocol: "https", At: "forge.tidewater.example", User: "ines.marlow"}
	var seen [][2]string
	stop := disk.Watch(func(call, path string) { seen = append(seen, [2]string{call, path}) })
	_, err := c.Put(e, Secret{Token: text("tide")})
	stop()
	if err != nil {
		t.Fatal(err)
	}
	mark := slices.Index(seen, [2]string{"sync", filepath.Dir(c.mark(e))})
	entry := slices.IndexFunc(seen, func(s [2]string) bool { return s[1] == c.path(e.Name) })
	if mark < 0 || entry < mark {
		t.Errorf("%q", seen)
	}
}
