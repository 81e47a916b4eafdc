package acceptance

import (
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
)

// slowClone makes git's ssh note its parent and wait.
func (p *person) slowClone() (started string) {
	started = p.path("started")
	p.write("#!/bin/sh\necho $PPID >"+started+".new\nmv "+started+".new "+started+"\nexec sleep 1000\n",
		"bin", "slow-ssh")
	p.chmod(0o755, "bin", "slow-ssh")
	p.extra = []string{"GIT_SSH=" + p.path("bin", "slow-ssh")}
	p.without = []string{"GIT_SSH_COMMAND"}
	return started
}

// during runs a command that clones, and sends it a signal while git is at it. It returns the exit code,
// what was said, and git's process.
func (p *person) during(sign syscall.Signal, args ...string) (exit int, said string, git int) {
	p.t.Helper()
	started := p.slowClone()
	var out strings.Builder
	cmd := exec.Command(program, args...)
	cmd.Dir, cmd.Env, cmd.Stdout, cmd.Stderr = p.folder, p.environ(), &out, &out
	if err := cmd.Start(); err != nil {
		p.t.Fatal(err)
	}
	ended := make(chan struct{})
	go func() {
		_ = cmd.Wait()
		close(ended)
	}()
	eventually(p.t, "git", func() bool { _, err := os.Stat(started); return err == nil })
	git, err := strconv.Atoi(strings.TrimSpace(p.read("started")))
	if err != nil {
		p.t.Fatal(err)
	}
	if err := cmd.Process.Signal(sign); err != nil {
		p.t.Fatal(err)
	}
	<-ended
	p.extra, p.without = nil, nil
	return cmd.ProcessState.ExitCode(), out.String(), git
}

// TestKilledAlone: git does not go on cloning when the run that started it is killed, and the next run is
// not in its way.
func TestKilledAlone(t *testing.T) {
	t.Parallel()
	p := settled(t)
	_, _, git := p.during(syscall.SIGKILL, "ready", drift)
	eventually(t, "git to end", func() bool { return syscall.Kill(git, 0) != nil })
	p.must("ready", drift)
	if !p.exists("drift-model", "drift.csv") {
		t.Error("no clone")
	}
	if left, _ := filepath.Glob(p.path(".*unfinished*")); len(left) > 0 {
		t.Errorf("left behind: %v", left)
	}
}

// TestInterruptedInsideGit: Ctrl-C while git clones is exit 5, and nothing is left of the clone.
func TestInterruptedInsideGit(t *testing.T) {
	t.Parallel()
	for _, sign := range []syscall.Signal{syscall.SIGINT, syscall.SIGTERM} {
		p := settled(t)
		exit, said, git := p.during(sign, "ready", drift)
		if exit != 5 || !strings.Contains(said, "stopped") {
			t.Errorf("exit %d: %s", exit, said)
		}
		eventually(t, "git to end", func() bool { return syscall.Kill(git, 0) != nil })
		left := ""
		_ = filepath.WalkDir(p.home, func(path string, _ fs.DirEntry, _ error) error {
			if strings.Contains(path, "drift-model") {
				left += path + "\n"
			}
			return nil
		})
		if left != "" {
			t.Errorf("left behind:\n%s", left)
		}
		p.must("ready", drift)
	}
}

// TestInterruptedMakingAChest: Ctrl-C while the work of a passphrase goes on is heeded at once, and there
// is no chest then.
func TestInterruptedMakingAChest(t *testing.T) {
	t.Parallel()
	p := withHost(t).withChest()
	fifo := p.path("words")
	if err := syscall.Mkfifo(fifo, 0o600); err != nil {
		t.Fatal(err)
	}
	shipped, err := shipped()
	if err != nil {
		t.Fatal(err)
	}
	var out strings.Builder
	cmd := exec.Command(shipped, "token", "add", "forge", "--from", p.host.TokenFile(), "--chest-passphrase-from", fifo)
	cmd.Dir, cmd.Env, cmd.Stdout, cmd.Stderr = p.folder, p.environ(), &out, &out
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	f, err := os.OpenFile(fifo, os.O_WRONLY, 0) // until it is read
	if err != nil {
		t.Fatal(err)
	}
	fmt.Fprintln(f, chestWords)
	if err := f.Close(); err != nil {
		t.Fatal(err)
	}
	// The passphrase takes a second of work from here on, and a little of it is spent when memory grows.
	eventually(t, "the work", func() bool {
		text, err := os.ReadFile(fmt.Sprintf("/proc/%d/statm", cmd.Process.Pid))
		pages := 0
		_, _ = fmt.Sscan(string(text), new(int), &pages)
		return err != nil || pages > 30_000
	})
	if err := cmd.Process.Signal(syscall.SIGINT); err != nil {
		t.Fatal(err)
	}
	_ = cmd.Wait()
	if exit := cmd.ProcessState.ExitCode(); exit != 5 {
		t.Errorf("exit %d: %s", exit, &out)
	}
	if p.exists(".local", "share", "unicrux", "chest", "key.json") || len(p.changes()) > 1 {
		t.Errorf("a chest was made: %s\n%+v", &out, p.changes())
	}
}
