package memory

import (
	"os"
	"regexp"
	"runtime"
	"testing"
)

// TestPrivate asks the kernel whom it lets look into this process.
func TestPrivate(t *testing.T) {
	if runtime.GOOS != "linux" {
		t.Log("nothing to look at")
		return
	}
	Private()
	info, err := os.Stat("/proc/self/environ")
	if err != nil {
		t.Fatal(err)
	}
	if info.Mode().Perm() != 0o400 { // as prctl(2) says, it is root's now; that this may be root changes nothing
		t.Errorf("%v", info.Mode())
	}
	if _, err := os.Open("/dev/fd/0"); os.IsPermission(err) {
		t.Error("its own files are closed to it: no secret could come from one")
	}
}

// TestLocked asks the kernel how much of this process it keeps out of the swap (proc(5), VmLck).
func TestLocked(t *testing.T) {
	if runtime.GOOS != "linux" {
		t.Log("nothing to look at")
		return
	}
	locked := Locked()
	status, err := os.ReadFile("/proc/self/status")
	if err != nil {
		t.Fatal(err)
	}
	kept := regexp.MustCompile(`(?m)^VmLck:\s+[1-9]`).Match(status)
	if locked != kept {
		t.Errorf("it says %v, and the kernel %v", locked, kept)
	}
}
