package find

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"anchorage.example/unicrux/core/person"
	"anchorage.example/unicrux/core/secret"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/workstation"
)

// A home is a throwaway one, with the tools to put keys into it.
type home struct {
	testing.TB
	station *workstation.Station
}

func newHome(t testing.TB) home {
	dir, err := filepath.EvalSymlinks(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	return home{t, &workstation.Station{Person: person.Person{Home: dir, SSHHome: dir, UID: os.Getuid(),
		State: filepath.Join(dir, "state"), Environ: []string{"PATH=" + os.Getenv("PATH"),
			"HOME=" + dir, "GIT_CONFIG_NOSYSTEM=1"}}, Folder: dir, Now: time.Now}}
}

func (h home) path(name string) string {
	return filepath.Join(h.station.Home, filepath.FromSlash(name))
}

func (h home) write(name string, mode fs.FileMode, text []byte) {
	h.Helper()
	if err := os.MkdirAll(filepath.Dir(h.path(name)), 0o700); err != nil {
		h.Fatal(err)
	}
	if err := os.WriteFile(h.path(name), text, mode); err != nil {
		h.Fatal(err)
	}
	if err := os.Chmod(h.path(name), mode); err != nil { // whatever the umask is
		h.Fatal(err)
	}
}

func (h home) make(kind string) *sshkey.Made {
	h.Helper()
	made, err := sshkey.Make(sshkey.Spec{Kind: kind, Passphrase: secret.Text{}})
	if err != nil {
		h.Fatal(err)
	}
	return made
}

func (h home) pair(name, kind string) *sshkey.Made {
	made := h.make(kind)
	h.write(name, 0o600, made.Private)
	h.write(name+".pub", 0o644, made.Public)
	return made
}

func (h home) git(args ...string) {
	h.Helper()
	cmd := exec.Command("git", args...)
	cmd.Dir, cmd.Env = h.station.Home, h.station.Environ
	if out, err := cmd.CombinedOutput(); err != nil {
		h.Fatalf("git %s: %v: %s", args, err, out)
	}
}

// TestFind has one key for each risk, and some that are well.
func TestFind(t *testing.T) {
	t.Parallel()
	h := newHome(t)
	h.pair(".ssh/id_ed25519", sshkey.ED25519)
	h.pair(".ssh/idle", sshkey.ED25519)
	used := h.pair("vault/used", sshkey.ED25519)
	h.write(".ssh/config", 0o600, []byte("Host harbour\n  IdentityFile ~/vault/used\n"))
	h.write("backup/used.old", 0o600, used.Private)
	h.pair("Downloads/temp/exposed", sshkey.ED25519)
	if err := os.Chmod(h.path("Downloads/temp/exposed"), 0o640); err != nil {
		t.Fatal(err)
	}
	h.pair("site/deploy", sshkey.ECDSA)
	h.git("init", "-q", "site")
	h.git("-C", "site", "add", "deploy")
	h.pair("site/deep/er/new", sshkey.ECDSA)
	mixed := h.pair("mixed", sshkey.ED25519)
	h.write("mixed.pub", 0o644, h.make(sshkey.ED25519).Public)
	h.write("windows.txt", 0o600, []byte(strings.ReplaceAll(string(mixed.Private), "\n", "\r\n")))
	h.write("alone.pub", 0o644, h.make(sshkey.ED25519).Public)
	h.write("halved", 0o600, h.make(sshkey.ED25519).Private)
	h.write("node_modules/x/key", 0o600, mixed.Private)
	h.write("picture.png", 0o600, mixed.Private)
	h.write("mes\x1b[31msage", 0o600, mixed.Private)
	if err := os.Symlink(h.path("vault"), h.path("link")); err != nil {
		t.Fatal(err)
	}
	result, err := Find(t.Context(), h.station, []string{h.station.Home}, nil)
	if err != nil || result.Cut {
		t.Fatalf("%v, cut %v", err, result.Cut)
	}
	want := map[string][]Risk{
		".ssh/id_ed25519": {Unlocked}, ".ssh/idle": {Unlocked, Idle}, "vault/used": {Unlocked},
		"backup/used.old": {Unlocked, Twice, Astray, NoPublic}, "Downloads/temp/exposed": {Exposed, Unlocked, Astray},
		"site/deploy": {Tracked, Unlocked, Astray}, "site/deep/er/new": {Unlocked, InTheOpen, Astray},
		"mixed": {Mismatched, Unlocked, Astray}, "windows.txt": {Unreadable}, "alone.pub": {NoPrivate},
		"halved": {Unlocked, Astray, NoPublic},
	}
	for _, f := range result.Keys {
		name, _ := filepath.Rel(h.station.Home, f.Path)
		name = filepath.ToSlash(name)
		if !slices.Equal(f.Risks, want[name]) {
			t.Errorf("%s: %v, want %v", name, f.Risks, want[name])
		}
		delete(want, name)
	}
	if len(want) > 0 {
		t.Errorf("not found: %v", want)
	}
	if first := result.Keys[0].Risks[0]; first != Exposed {
		t.Errorf("the first is %s", first)
	}
}

// TestFindEnds stops where it should: at its limits, at what is no folder, when told to.
func TestFindEnds(t *testing.T) {
	t.Parallel()
	h := newHome(t)
	deep := strings.Repeat("d/", maxDepth+2) + "key"
	h.pair(deep, sshkey.ED25519)
	result, err := Find(t.Context(), h.station, []string{h.station.Home}, nil)
	if err != nil || !result.Cut || len(result.Keys) != 0 {
		t.Errorf("too deep: %+v, %v", result, err)
	}
	if result, err := Find(t.Context(), h.station, []string{filepath.Dir(h.path(deep))}, nil); err != nil ||
		len(result.Keys) != 1 {
		t.Errorf("named: %+v, %v", result, err)
	}
	if _, err := Find(t.Context(), h.station, []string{h.path(deep)}, nil); err == nil {
		t.Error("a file was taken for a folder")
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := Find(ctx, h.station, []string{h.station.Home}, nil); !errors.Is(err, context.Canceled) {
		t.Errorf("stopped: %v", err)
	}
}

// largeHome has 100,000 files as a developer's has them: sources, documents, pictures, and
// some whose names tell nothing.
func largeHome(b *testing.B) home {
	h := newHome(b)
	ends := []string{".go", ".ts", ".py", ".md", ".json", ".png", ".jpg", ".html", ".css", ".c", ".h", ".java",
		".yaml", ".pdf", ".o", ".txt", ".csv", ".svg", "", ".xml"}
	for folder := range 1000 {
		dir := h.path(fmt.Sprintf("src/p%02d/q%02d", folder/40, folder%40))
		if err := os.MkdirAll(dir, 0o700); err != nil {
			b.Fatal(err)
		}
		for file := range 100 {
			name := filepath.Join(dir, fmt.Sprintf("file%02d%s", file, ends[file%len(ends)]))
			if err := os.WriteFile(name, []byte("a line of text\n"), 0o600); err != nil {
				b.Fatal(err)
			}
		}
	}
	for i := range 20 {
		h.pair(fmt.Sprintf("src/p%02d/key%d", i, i), sshkey.ED25519)
	}
	return h
}

// BenchmarkFind holds a search of 100,000 files against a plain walk of the same tree. The
// promise is a ratio of 2 at most.
func BenchmarkFind(b *testing.B) {
	h := largeHome(b)
	var ours, walk time.Duration
	for b.Loop() {
		start := time.Now()
		if result, err := Find(b.Context(), h.station, []string{h.station.Home}, nil); err != nil ||
			len(result.Keys) != 20 {
			b.Fatalf("%+v, %v", result, err)
		}
		ours += time.Since(start)
		start = time.Now()
		if err := filepath.WalkDir(h.station.Home, func(string, fs.DirEntry, error) error { return nil }); err != nil {
			b.Fatal(err)
		}
		walk += time.Since(start)
	}
	b.ReportMetric(float64(ours)/float64(walk), "ours/walk")
}
