package memory

import (
	"os"
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
