package person

import (
	"errors"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
)

// TestHolderSocket tells where the holder listens, with and without a runtime folder.
func TestHolderSocket(t *testing.T) {
	t.Parallel()
	if runtime.GOOS == "windows" {
		t.Log("a pipe lies in no folder")
		return
	}
	home, run := t.TempDir(), t.TempDir()
	p := Person{Home: home, SSHHome: home, State: filepath.Join(home, "state"), UID: os.Getuid(),
		Environ: []string{"XDG_RUNTIME_DIR=" + run}}
	below := filepath.Join(p.State, "run", "agent")
	if err := os.Chmod(run, 0o755); err != nil {
		t.Fatal(err)
	}
	if got := p.HolderSocket(); strings.HasPrefix(got, run) {
		t.Errorf("in a runtime folder that others may enter: %s", got)
	}
	if err := os.Chmod(run, 0o700); err != nil {
		t.Fatal(err)
	}
	if got := p.HolderSocket(); got != filepath.Join(run, "unicrux", "agent") || !p.IsHolder(below) ||
		p.IsHolder("/else") {
		t.Errorf("in the runtime folder: %s", got)
	}
	if err := errors.Join(os.MkdirAll(filepath.Dir(below), 0o700), os.WriteFile(below, nil, 0o600)); err != nil {
		t.Fatal(err)
	}
	if got := p.HolderSocket(); got != below {
		t.Errorf("where one listens already: %s", got)
	}
	if got := p.DoorSocket(); got != filepath.Join(run, "unicrux", "door") || p.IsHolder(got) {
		t.Errorf("the chest's door: %s", got)
	}
	other := p
	other.SSHHome = t.TempDir()
	if got := other.HolderSocket(); got != below || len(other.holderSockets(agentSocket)) != 1 {
		t.Errorf("in a throwaway home: %s", got)
	}
}
