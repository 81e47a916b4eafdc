//go:build linux

package peer

import (
	"bufio"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"testing"
	"time"
)

// listening names, for a process of this test's own, the socket on which it is to listen.
const listening = "UNICRUX_TEST_LISTENS"

// TestOtherEnd: who is at the other end, and whether that process was stopped.
func TestOtherEnd(t *testing.T) {
	if socket := os.Getenv(listening); socket != "" {
		listener, err := net.Listen("unix", socket)
		if err != nil {
			t.Fatal(err)
		}
		defer listener.Close()
		_, _ = os.Stdout.WriteString("listening\n")
		_, _ = bufio.NewReader(os.Stdin).ReadString('\n') // until the other one is done
		return
	}
	socket := filepath.Join(t.TempDir(), "s")
	child := exec.Command(os.Args[0], "-test.run=^TestOtherEnd$")
	child.Env = append(os.Environ(), listening+"="+socket)
	in, errIn := child.StdinPipe()
	out, errOut := child.StdoutPipe()
	if errIn != nil || errOut != nil {
		t.Fatal(errIn, errOut)
	}
	if err := child.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() {
		_ = child.Process.Signal(syscall.SIGCONT)
		_ = in.Close()
		_ = child.Wait()
	}()
	if line, err := bufio.NewReader(out).ReadString('\n'); err != nil || line != "listening\n" {
		t.Fatalf("%q, %v", line, err)
	}
	conn, err := net.Dial("unix", socket)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	other := conn.(*net.UnixConn)
	if !SelfAt(other) || StoppedAt(other) {
		t.Error("a process of ours that runs is a stranger, or stopped")
	}
	if err := child.Process.Signal(syscall.SIGSTOP); err != nil {
		t.Fatal(err)
	}
	for patience := time.Now().Add(10 * time.Second); !StoppedAt(other); {
		if time.Now().After(patience) {
			t.Fatal("it was stopped, and is told to run")
		}
	}
	if Self(-1) || Stopped(-1) {
		t.Error("somebody is at the other end of nothing")
	}
	if got := decimal(40960); got != "40960" {
		t.Errorf("40960 is written %s", got)
	}
}
