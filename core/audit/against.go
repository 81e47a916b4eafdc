package audit

import (
	"time"

	"anchorage.example/unicrux/core/policy"
)

// A Drift is what changed between two reports of one machine.
type Drift struct {
	When    time.Time // of the older one
	New     []Finding
	Still   []Finding
	Gone    []Finding
	NotSeen []Finding // of what was not looked at, or not as a whole, this time: whether they are gone is not known
}

// Against compares a report with an older one's findings, and gives those that stand the instant since when they do.
func (r *Report) Against(when time.Time, old []Finding) Drift {
	drift := Drift{When: when}
	before := map[string]Finding{}
	for _, f := range old {
		before[f.ID] = f
	}
	now := map[string]bool{}
	for i, f := range r.Findings {
		now[f.ID] = true
		if was, found := before[f.ID]; found {
			r.Findings[i].Since = was.Since
			drift.Still = append(drift.Still, r.Findings[i])
		} else {
			drift.New = append(drift.New, f)
		}
	}
	read := r.read()
	for _, f := range old {
		switch {
		case now[f.ID]:
		case read[f.Person] && (f.Code != policy.KeyCopied || r.Complete), f.Code == policy.ExceptionEnded:
			drift.Gone = append(drift.Gone, f)
		default:
			drift.NotSeen = append(drift.NotSeen, f)
		}
	}
	return drift
}

// read tells of the owner of each home, and of the machine itself, whether all that is theirs was looked at.
func (r *Report) read() map[string]bool {
	read := map[string]bool{"": r.Own}
	for _, home := range r.Homes {
		before, met := read[home.Owner()]
		read[home.Owner()] = home.State == Read && (before || !met)
	}
	return read
}
