package person

import (
	"errors"
	"os"
	"path/filepath"
	"reflect"
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

// TestFolders: our own variable counts before the desktop's, and that only where it is absolute (XDG Base Directory
// Specification, section 2).
func TestFolders(t *testing.T) {
	t.Parallel()
	if runtime.GOOS != "linux" {
		t.Log("other systems have other habits")
		return
	}
	here, err := os.Getwd()
	if err != nil {
		t.Fatal(err)
	}
	for _, row := range []struct {
		name    string
		environ []string
		sshHome string
		want    Person
	}{
		{"nothing set", []string{"HOME=/h"}, "/h", Person{Home: "/h", SSHHome: "/h", Config: "/h/.config/unicrux",
			Data: "/h/.local/share/unicrux", State: "/h/.local/state/unicrux", Cache: "/h/.cache/unicrux"}},
		{"the last of two counts", []string{"HOME=/old", "HOME=/h", "XDG_STATE_HOME=/s", "XDG_CACHE_HOME=s"}, "/h",
			Person{Home: "/h", SSHHome: "/h", Config: "/h/.config/unicrux", Data: "/h/.local/share/unicrux",
				State: "/s/unicrux", Cache: "/h/.cache/unicrux"}},
		{"ours first", []string{"HOME=/h", "XDG_CONFIG_HOME=/c", "UNICRUX_CONFIG=/ours/", "UNICRUX_DATA=below"}, "/h",
			Person{Home: "/h", SSHHome: "/h", Config: "/ours", Data: filepath.Join(here, "below"),
				State: "/h/.local/state/unicrux", Cache: "/h/.cache/unicrux"}},
		{"no home in the environment", nil, "/db", Person{Home: "/db", SSHHome: "/db", Config: "/db/.config/unicrux",
			Data: "/db/.local/share/unicrux", State: "/db/.local/state/unicrux", Cache: "/db/.cache/unicrux"}},
		{"no entry in the password database", []string{"HOME=/h"}, "", Person{Home: "/h", SSHHome: "/h",
			Config: "/h/.config/unicrux", Data: "/h/.local/share/unicrux", State: "/h/.local/state/unicrux",
			Cache: "/h/.cache/unicrux"}},
	} {
		got := Of(row.environ, row.sshHome)
		row.want.Environ, row.want.UID, row.want.Machine = row.environ, os.Getuid(), "/etc/unicrux"
		if !reflect.DeepEqual(got, row.want) {
			t.Errorf("%s: %+v, want %+v", row.name, got, row.want)
		}
	}
}

// TestSameHome: two names of one folder are one home.
func TestSameHome(t *testing.T) {
	t.Parallel()
	real := t.TempDir()
	link := filepath.Join(t.TempDir(), "link")
	if err := os.Symlink(real, link); err != nil {
		t.Fatal(err)
	}
	for other, same := range map[string]bool{real: true, real + "/": true, link: true, t.TempDir(): false,
		"/nowhere": false} {
		if got := (Person{Home: real, SSHHome: other}).SameHome(); got != same {
			t.Errorf("%s and %s are one home: %v", real, other, got)
		}
	}
}
