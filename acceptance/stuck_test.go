package acceptance

import (
	"fmt"
	"strings"
	"syscall"
	"testing"
)

// TestStuckHolder: a holder that was stopped keeps what it holds, and nobody says that none runs.
func TestStuckHolder(t *testing.T) {
	t.Parallel()
	p := withHost(t).withChest()
	if r := p.newToken(); r.exit != 0 {
		t.Fatal(r)
	}
	p.openChest()
	pid := doorPID(p)
	if err := syscall.Kill(pid, syscall.SIGSTOP); err != nil {
		t.Fatal(err)
	}
	git := p.run("protocol=https\nhost="+p.webHost()+"\n\n", program, "for-git", "credential", "get")
	if git.exit != 0 || git.out != "" || !strings.Contains(git.err, "does not respond") ||
		!strings.Contains(git.err, fmt.Sprintf("kill -9 %d", pid)) {
		t.Errorf("git: %s", git)
	}
	for _, args := range [][]string{{"chest", "close"}, {"holder", "show"}, {"holder", "stop"}} {
		if r := p.unicrux(args...); r.exit != 3 || !strings.Contains(r.err, fmt.Sprintf("kill -9 %d", pid)) ||
			strings.Contains(r.out, "No holder") {
			t.Errorf("%s, stopped: %s", args, r)
		}
	}
	p.write("", ".local", "state", "unicrux", "run", "door.lock") // its number is not known then, and 0 is everybody's
	if r := p.run("protocol=https\nhost="+p.webHost()+"\n\n", program, "for-git", "credential", "get"); r.exit != 0 ||
		strings.Contains(r.err, "kill") || !strings.Contains(r.err, "does not respond") {
		t.Errorf("git, of an unknown process: %s", r)
	}
	if err := syscall.Kill(pid, syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	if r := p.must("holder", "stop"); !strings.Contains(r.out, "No holder runs") {
		t.Errorf("ended: %s", r)
	}
	if r := p.must("holder", "show"); strings.Contains(r.out, "open until") {
		t.Errorf("ended: %s", r)
	}
}
