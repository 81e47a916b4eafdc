package render

import (
	"crypto/sha256"
	"encoding/hex"
	"time"

	"anchorage.example/unicrux/core/policy"
	"anchorage.example/unicrux/render/document"
)

// FactsOf are the figures of a report, whose text is given.
func FactsOf(d *document.Audit, text []byte, now time.Time) *document.FactsReport {
	sum := sha256.Sum256(text)
	f := &document.FactsReport{When: d.When, Complete: d.Complete, SHA256: document.Text(hex.EncodeToString(sum[:])),
		Homes: len(d.Homes)}
	for _, found := range d.Findings {
		switch {
		case found.Excepted != nil:
		case found.Level == string(policy.Must):
			f.Must++
		case found.Level == string(policy.Should):
			f.Should++
		case found.Level == string(policy.Tell):
			f.Tell++
		}
	}
	soonest := func(until *time.Time) {
		if until != nil && until.After(now) && (f.SoonestEnd == nil || until.Before(*f.SoonestEnd)) {
			f.SoonestEnd = until
		}
	}
	for _, home := range d.Homes {
		for _, c := range home.Certificates {
			soonest(c.Until)
		}
		for _, t := range home.Tokens {
			if !t.Renews {
				soonest(t.Until)
			}
		}
	}
	return f
}
