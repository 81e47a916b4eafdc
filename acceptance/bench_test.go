package acceptance

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
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

// BenchmarkMakeRSA makes a pair of 4096 bits, whole process, beside the time that this very
// run spent in the standard library's generation (promises: at most 1.05).
func BenchmarkMakeRSA(b *testing.B) {
	p := newPerson(b)
	traced := regexp.MustCompile(`key generated.* bits=4096 milliseconds=([0-9.]+)`)
	var ours, theirs time.Duration
	for i := 0; b.Loop(); i++ {
		start := time.Now()
		r := p.must("key", "new", "rsa"+strconv.Itoa(i), "--kind", "rsa", "--no-passphrase", "--verbose")
		ours += time.Since(start)
		match := traced.FindStringSubmatch(r.err)
		if match == nil {
			b.Fatalf("no trace: %s", r)
		}
		milliseconds, err := strconv.ParseFloat(match[1], 64)
		if err != nil {
			b.Fatal(err)
		}
		theirs += time.Duration(milliseconds * float64(time.Millisecond))
	}
	b.ReportMetric(float64(ours)/float64(theirs), "ours/generation")
}

// BenchmarkSettings tells all settings of one host among 10,000 blocks, whole process, beside
// the real client printing its own resolution of the same file (promises: at most 0.5).
func BenchmarkSettings(b *testing.B) {
	p := newPerson(b)
	var text strings.Builder
	for i := range 10_000 {
		fmt.Fprintf(&text, "Host buoy-%d.tidewater.example\n    Port %d\n    User git\n    IdentityFile ~/.ssh/buoy_%d\n", i, 1024+i, i)
	}
	p.write(text.String(), "many")
	const host = "buoy-9999.tidewater.example"
	var ours, theirs time.Duration
	for b.Loop() {
		start := time.Now()
		if r := p.must("host", "show", host, "--settings", "--ssh-config", p.path("many"), "--json"); !strings.Contains(r.out, `"value": "11023"`) {
			b.Fatal(r)
		}
		ours += time.Since(start)
		start = time.Now()
		if r := p.run("", "ssh", "-G", "-F", p.path("many"), host); !strings.Contains(r.out, "port 11023") {
			b.Fatal(r)
		}
		theirs += time.Since(start)
	}
	b.ReportMetric(float64(ours)/float64(theirs), "ours/theirs")
}
