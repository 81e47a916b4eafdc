//go:build !windows

package peer

import (
	"errors"
	"net"
	"os"
	"path/filepath"
	"testing"
)

// TestOwn has every way in which a socket may not be ours alone.
func TestOwn(t *testing.T) {
	t.Parallel()
	at := func(mode os.FileMode) (folder, socket string) {
		folder = filepath.Join(t.TempDir(), "run")
		if err := os.Mkdir(folder, mode); err != nil {
			t.Fatal(err)
		}
		socket = filepath.Join(folder, "s")
		listener, err := net.Listen("unix", socket)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { _ = listener.Close() })
		return folder, socket
	}
	_, good := at(0o700)
	if err := Own(good); err != nil {
		t.Errorf("ours: %v", err)
	}
	_, open := at(0o770)
	if err := os.Chmod(filepath.Dir(open), 0o770); err != nil {
		t.Fatal(err)
	}
	folder, _ := at(0o700)
	link := filepath.Join(t.TempDir(), "run")
	if err := os.Symlink(folder, link); err != nil {
		t.Fatal(err)
	}
	inside, _ := at(0o700)
	if err := os.Symlink(good, filepath.Join(inside, "link")); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(inside, "file"), nil, 0o600); err != nil {
		t.Fatal(err)
	}
	strangers := map[string]string{"a folder that others may enter": open,
		"a folder that is a link": filepath.Join(link, "s"),
		"a socket that is a link": filepath.Join(inside, "link"), "a file": filepath.Join(inside, "file")}
	if os.Geteuid() == 0 { // only root can give something away
		_, given := at(0o700)
		if err := os.Lchown(given, 65534, 65534); err != nil {
			t.Fatal(err)
		}
		strangers["another's socket"] = given
		away, inAway := at(0o700)
		if err := os.Chown(away, 65534, 65534); err != nil {
			t.Fatal(err)
		}
		strangers["another's folder"] = inAway
	}
	for name, socket := range strangers {
		if err := Own(socket); !errors.Is(err, ErrStranger) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if err := Own(filepath.Join(folder, "none")); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("none there: %v", err)
	}
}
