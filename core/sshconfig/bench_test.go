package sshconfig

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// BenchmarkOneHostAmongMany resolves one host among 10,000 blocks, and reports how that
// compares with the real client's whole process for the same (promises: at most 0.5, for
// the whole of ours).
func BenchmarkOneHostAmongMany(b *testing.B) {
	var text strings.Builder
	for i := range 10_000 {
		fmt.Fprintf(&text, "Host buoy-%d.tidewater.example\n    Port %d\n    User git\n    IdentityFile ~/.ssh/buoy_%d\n", i, 1024+i, i)
	}
	path := filepath.Join(b.TempDir(), "config")
	if err := os.WriteFile(path, []byte(text.String()), 0o600); err != nil {
		b.Fatal(err)
	}
	const host = "buoy-9999.tidewater.example"
	var ours, theirs time.Duration
	for b.Loop() {
		start := time.Now()
		if port := Resolve(Query{Host: host, Command: CommandLine{Config: path},
			Person: person(b)}).Client().Port; port != 1024+9999 {
			b.Fatalf("port %d", port)
		}
		ours += time.Since(start)
		start = time.Now()
		if err := exec.Command("ssh", "-G", "-F", path, host).Run(); err != nil {
			b.Fatal(err)
		}
		theirs += time.Since(start)
	}
	b.ReportMetric(float64(ours)/float64(theirs), "ours/theirs")
}
