package gitlink

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"anchorage.example/unicrux/core/person"
	"anchorage.example/unicrux/core/workstation"
)

// TestBesideGit: edits of ours and of git's at the same time lose nothing of each other.
func TestBesideGit(t *testing.T) {
	t.Parallel()
	home := t.TempDir()
	station := &workstation.Station{Person: person.Person{UID: os.Getuid(), Home: home, SSHHome: home,
		State: filepath.Join(home, "state"), Environ: os.Environ()}, Now: time.Now}
	path := filepath.Join(home, "config")
	const each = 12
	var wait sync.WaitGroup
	for i := range each {
		wait.Go(func() {
			batch := station.Begin("Test.", false)
			_, err := ChangeText(batch, EditOf{Path: path, Words: "Add.", Mode: 0o600},
				func(old []byte) ([]byte, error) {
					return append(old, fmt.Sprintf("[ours%d]\n\tx = y\n", i)...), nil
				})
			if err != nil {
				t.Error(err)
			}
		})
	}
	wait.Go(func() {
		for i := 0; i < each; {
			out, err := exec.Command("git", "config", "--file", path, fmt.Sprintf("gits%d.x", i), "y").CombinedOutput()
			if err == nil {
				i++
			} else if !strings.Contains(string(out), "could not lock") { // then it is to try again: git does not wait
				t.Errorf("%v: %s", err, out)
				return
			}
		}
	})
	wait.Wait()
	text, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	for i := range each {
		for _, section := range []string{fmt.Sprintf("[ours%d]", i), fmt.Sprintf("[gits%d]", i)} {
			if strings.Count(string(text), section) != 1 {
				t.Errorf("%s is lost", section)
			}
		}
	}
	if _, err := os.Lstat(lockName(path)); err == nil {
		t.Error("the lock stays")
	}
}
