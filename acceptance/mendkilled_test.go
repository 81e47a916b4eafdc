package acceptance

import (
	"math/rand/v2"
	"testing"
	"time"
)

// TestMendKilled kills a mending check at random moments: nothing is half done, and the next one
// goes on to an open way.
func TestMendKilled(t *testing.T) {
	t.Parallel()
	host := withHost(t).host
	random := rand.New(rand.NewPCG(8, 11))
	for range 12 {
		p := newPerson(t)
		p.host = host
		p.must("host", "add", host.DescriptionFile())
		args := []string{"check", "--mend", "--no-passphrase", "--token-from", host.TokenFile(), drift}
		p.killDuring(random, 300*time.Millisecond, args...)
		p.whole()
		p.must(args...)
		p.wants(drift, "")
	}
}
