package hosts

import (
	"os/exec"
	"runtime"
	"strings"
	"testing"
)

// TestHoldCommand writes lines that the shell splits into the very words that were meant,
// or none at all.
func TestHoldCommand(t *testing.T) {
	t.Parallel()
	if runtime.GOOS == "windows" {
		return // none is written there
	}
	for _, row := range []struct {
		hold Hold
		want string // the words, with | between; empty for no line
	}{
		{Hold{}, ""},
		{Hold{Program: "/usr/bin/unicrux"}, "/usr/bin/unicrux|holder|start|--quiet"},
		{Hold{Program: "/home/ines m/b$n/unicrux"}, "/home/ines m/b$n/unicrux|holder|start|--quiet"},
		{Hold{Program: "/a/u", Unlock: "/home/i/.ssh/key & co"},
			"/a/u|holder|start|--quiet|--unlock|/home/i/.ssh/key & co"},
		{Hold{Program: "/a/100%/u"}, "/a/100%/u|holder|start|--quiet"},
		{Hold{Program: "/a/qu'ote/u"}, ""}, {Hold{Program: "/a/\"/u"}, ""},
		{Hold{Program: "/a/u", Unlock: "/a\nb"}, ""},
	} {
		line := row.hold.command()
		if line == "" {
			if row.want != "" {
				t.Errorf("%+v: no line", row.hold)
			}
			continue
		}
		line = strings.ReplaceAll(line, "%%", "%") // as ssh does before the shell sees it
		out, err := exec.Command("sh", "-c", "printf '%s|' "+line).Output()
		if got := strings.TrimSuffix(string(out), "|"); err != nil || got != row.want {
			t.Errorf("%+v: the shell reads %q, %v; want %q", row.hold, got, err, row.want)
		}
	}
}
