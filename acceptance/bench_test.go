package acceptance

import (
	"testing"
	"time"
)

// BenchmarkCheck goes an open way, whole process, beside git's own ls-remote of the same
// URL (promises: at most 1.2).
func BenchmarkCheck(b *testing.B) {
	p := settled(b)
	var ours, theirs time.Duration
	for b.Loop() {
		start := time.Now()
		p.must("check", drift)
		ours += time.Since(start)
		start = time.Now()
		p.mustGit("ls-remote", drift)
		theirs += time.Since(start)
	}
	b.ReportMetric(float64(ours)/float64(theirs), "ours/theirs")
}
