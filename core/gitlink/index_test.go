package gitlink

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// TestTracks compares with git's own list, in every form of it.
func TestTracks(t *testing.T) {
	t.Parallel()
	for _, format := range []string{"sha1", "sha256"} {
		for _, version := range []string{"2", "3", "4"} {
			t.Run(format+" "+version, func(t *testing.T) {
				t.Parallel()
				home := t.TempDir()
				git := func(args ...string) {
					t.Helper()
					cmd := exec.Command("git", append([]string{"-C", home}, args...)...)
					cmd.Env = []string{"HOME=" + home, "PATH=" + os.Getenv("PATH"), "GIT_CONFIG_NOSYSTEM=1"}
					if out, err := cmd.CombinedOutput(); err != nil {
						t.Fatalf("git %v: %v: %s", args, err, out)
					}
				}
				git("init", "--quiet", "--object-format="+format)
				git("config", "index.version", version)
				names := []string{"id", "id.pub", strings.Repeat("n", 8), strings.Repeat("deep/", 30) + "key", "é",
					"later"}
				for i := range 40 {
					names = append(names, fmt.Sprintf("folder/%0*d", 1+i%9, i))
				}
				for _, name := range append(names, "untracked") {
					path := filepath.Join(home, name)
					if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
						t.Fatal(err)
					}
					if err := os.WriteFile(path, []byte(name), 0o600); err != nil {
						t.Fatal(err)
					}
				}
				git(append([]string{"add", "--"}, names[:5]...)...)
				git(append([]string{"add", "--intent-to-add", "--"}, names[5])...) // an extended entry
				git(append([]string{"add", "--"}, names[6:]...)...)
				git("update-index", "--index-version", version)
				for _, name := range names {
					if has, known := Tracks(home, filepath.Join(home, name)); !has || !known {
						t.Errorf("%s: %v %v", name, has, known)
					}
				}
				for _, name := range []string{"untracked", "folder", "folder/x", "ID", "i"} {
					if has, known := Tracks(home, filepath.Join(home, name)); has || !known {
						t.Errorf("%s: %v %v", name, has, known)
					}
				}
				git("update-index", "--split-index")
				if has, known := Tracks(home, filepath.Join(home, "untracked")); has || known {
					t.Errorf("of a split list it is said to be known: %v", has)
				}
			})
		}
	}
}

// FuzzIndex: whatever a list holds, it is read to its end.
func FuzzIndex(f *testing.F) {
	f.Add([]byte("DIRC\x00\x00\x00\x02\x00\x00\x00\x01"+strings.Repeat("x", 90)), "id")
	f.Fuzz(func(t *testing.T, text []byte, name string) {
		if has, known := indexHas(text, name); has && !known {
			t.Error("it is there, and that is not known")
		}
	})
}
