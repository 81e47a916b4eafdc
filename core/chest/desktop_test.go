package chest

import (
	"os"
	"os/exec"
	"strings"
	"testing"

	"anchorage.example/unicrux/core/workstation"
	"anchorage.example/unicrux/fixture/desktop"
)

// TestConformanceAtTheDesktop runs the test that every kind has to pass beside a real secret
// service: as a process of its own, which finds the service by its environment.
func TestConformanceAtTheDesktop(t *testing.T) {
	t.Parallel()
	if os.Getenv("UNICRUX_AT_DESKTOP") != "" {
		station, err := workstation.Here(os.Environ())
		if err != nil {
			t.Fatal(err)
		}
		conform(t, Of(station), Desktop, func() {})
		return
	}
	for _, name := range []string{"dbus-run-session", "gnome-keyring-daemon"} {
		if _, err := exec.LookPath(name); err != nil {
			if os.Getenv("CI") != "" {
				t.Fatal(err)
			}
			t.Skip(err)
		}
	}
	self, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command("dbus-run-session", "--", "sh", "-c",
		desktop.Start+`"$SELF" -test.run '^TestConformanceAtTheDesktop$' -test.v`)
	home := t.TempDir()
	cmd.Env = []string{"UNICRUX_AT_DESKTOP=yes", "SELF=" + self, "HOME=" + home,
		"PATH=" + os.Getenv("PATH"), "LC_ALL=C"}
	out, err := cmd.CombinedOutput()
	if err != nil || !strings.Contains(string(out), "--- PASS: TestConformanceAtTheDesktop") {
		t.Errorf("%v\n%s", err, out)
	}
}
