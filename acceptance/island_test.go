package acceptance

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"anchorage.example/unicrux/fixture/contract"
)

// An island is a machine of its own as far as its settings go: what runs on it sees another /etc and other people.
type island struct {
	t   testing.TB
	dir string // all of it; everybody may enter it
}

// newcomerID is the number of the one person on an island beside root.
const newcomerID = 4321

// newIsland makes one, with a copy of this machine's /etc.
func newIsland(t testing.TB) *island {
	t.Helper()
	if os.Geteuid() != 0 {
		if os.Getenv("CI") != "" {
			t.Fatal("CI runs as root")
		}
		t.Skip("only root can put another /etc in the place of this one")
	}
	dir, err := os.MkdirTemp("", "unicrux-island-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := os.RemoveAll(dir); err != nil {
			t.Error(err)
		}
	})
	l := &island{t: t, dir: dir}
	home := l.path("home", "newcomer")
	err = errors.Join(os.Chmod(dir, 0o755), os.MkdirAll(home, 0o755), os.MkdirAll(l.path("root"), 0o700),
		os.MkdirAll(l.path("state"), 0o755), os.Chown(home, newcomerID, newcomerID))
	if err != nil {
		t.Fatal(err)
	}
	l.copy("/etc", l.path("etc"))
	l.copy(program, l.path("unicrux"))
	// whatever is on this machine; and no name servers, for which whoever asks would wait
	for _, name := range []string{"ssh/ssh_known_hosts", "gitconfig", "unicrux", "resolv.conf"} {
		if err := os.RemoveAll(l.path("etc", name)); err != nil {
			t.Fatal(err)
		}
	}
	l.add("newcomer:x:4321:4321::"+home+":/bin/sh\n", "etc", "passwd")
	l.add("newcomer:x:4321:\n", "etc", "group")
	return l
}

func (l *island) path(parts ...string) string {
	return filepath.Join(append([]string{l.dir}, parts...)...)
}

func (l *island) copy(from, to string) {
	l.t.Helper()
	if out, err := exec.Command("cp", "-a", from, to).CombinedOutput(); err != nil {
		l.t.Fatalf("%v: %s", err, out)
	}
}

func (l *island) write(text string, parts ...string) {
	l.t.Helper()
	if err := errors.Join(os.MkdirAll(filepath.Dir(l.path(parts...)), 0o755),
		os.WriteFile(l.path(parts...), []byte(text), 0o644)); err != nil {
		l.t.Fatal(err)
	}
}

func (l *island) read(parts ...string) string {
	l.t.Helper()
	text, err := os.ReadFile(l.path(parts...))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		l.t.Fatal(err)
	}
	return string(text)
}

func (l *island) add(text string, parts ...string) {
	l.t.Helper()
	l.write(l.read(parts...)+text, parts...)
}

// run runs a command there; as the newcomer, or as root.
func (l *island) run(newcomer bool, words ...string) result {
	l.t.Helper()
	home := l.path("root")
	if newcomer {
		home = l.path("home", "newcomer")
		id := strconv.Itoa(newcomerID)
		words = append([]string{need(l.t, "setpriv"), "--reuid=" + id, "--regid=" + id, "--clear-groups"}, words...)
	}
	script := `mount --bind "$0" /etc && cd "$HOME" && exec "$@"`
	cmd := exec.Command(need(l.t, "unshare"), append([]string{"--mount", "sh", "-c", script, l.path("etc")},
		words...)...)
	cmd.Env = []string{"PATH=" + os.Getenv("PATH"), "HOME=" + home, "LC_ALL=C", "GIT_TERMINAL_PROMPT=0"}
	var out, errOut bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errOut
	err := cmd.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		l.t.Fatalf("%s: %v", words, err)
	}
	r := result{out.String(), errOut.String(), cmd.ProcessState.ExitCode()}
	if strings.HasPrefix(r.out, "{") && words[len(words)-1] == "--json" {
		if err := contract.Broken(out.Bytes()); err != nil {
			l.t.Errorf("%s breaks the contract: %v\n%s", strings.Join(words, " "), err, r)
		}
	}
	return r
}

// root runs a command of ours as root, which has to end so.
func (l *island) root(exit int, args ...string) result {
	l.t.Helper()
	return l.wants(exit, l.run(false, append([]string{l.path("unicrux")}, args...)...), args)
}

// newcomer runs a command of ours as the newcomer, which has to end so.
func (l *island) newcomer(exit int, args ...string) result {
	l.t.Helper()
	return l.wants(exit, l.run(true, append([]string{l.path("unicrux")}, args...)...), args)
}

func (l *island) wants(exit int, r result, args []string) result {
	l.t.Helper()
	if r.exit != exit {
		l.t.Fatalf("unicrux %s, want exit %d: %s", strings.Join(args, " "), exit, r)
	}
	return r
}

// etc is what each file below /etc is: its content, mode and when it was changed.
func (l *island) etc() map[string]string {
	l.t.Helper()
	all := map[string]string{}
	err := filepath.WalkDir(l.path("etc"), func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		info, err := d.Info()
		mark := info.Mode().String()
		if err == nil && info.Mode().IsRegular() {
			text, readErr := os.ReadFile(path)
			sum := sha256.Sum256(text)
			mark, err = mark+" "+hex.EncodeToString(sum[:]), readErr
		}
		all[strings.TrimPrefix(path, l.path())] = mark
		return err
	})
	if err != nil {
		l.t.Fatal(err)
	}
	return all
}

// inodes are which file each of some names is, and when it was changed.
func (l *island) inodes(names ...string) string {
	l.t.Helper()
	args := []string{"-c", "%n %i %Y %Z"}
	for _, name := range names {
		args = append(args, l.path("etc", name))
	}
	out, err := exec.Command("stat", args...).CombinedOutput()
	if err != nil {
		l.t.Fatalf("%v: %s", err, out)
	}
	return string(out)
}
