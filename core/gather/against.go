package gather

import (
	"time"

	"anchorage.example/unicrux/core/audit"
)

// A Drift is what changed between two gatherings.
type Drift struct {
	When                      time.Time // of the older one
	New, Still, Gone, NotSeen []Finding
}

// Before is a machine as an older gathering had it.
type Before struct {
	Machine, ID string
	Findings    []audit.Finding
}

// Against compares the machines' own findings with those of an older gathering. What was found on a machine that is
// silent now, or whose report is incomplete or old, is not gone: nobody looked.
func (t *Together) Against(when time.Time, before []Before) Drift {
	d := Drift{When: when}
	then := map[string]map[string]bool{}
	now := map[string]*Machine{}
	for _, b := range before {
		ids := map[string]bool{}
		for _, f := range b.Findings {
			ids[f.ID] = true
		}
		then[b.Machine+"\x00"+b.ID] = ids
	}
	seen := map[string]map[string]bool{}
	for i, m := range t.Machines {
		name := m.Name + "\x00" + m.ID
		now[name], seen[name] = &t.Machines[i], map[string]bool{}
		for _, f := range m.Findings {
			seen[name][f.ID] = true
			if then[name][f.ID] {
				d.Still = append(d.Still, Finding{f, m.Name})
			} else {
				d.New = append(d.New, Finding{f, m.Name})
			}
		}
	}
	for _, b := range before {
		name := b.Machine + "\x00" + b.ID
		m := now[name]
		for _, f := range b.Findings {
			switch {
			case seen[name][f.ID]:
			case m != nil && m.Complete && !m.Old:
				d.Gone = append(d.Gone, Finding{f, b.Machine})
			default:
				d.NotSeen = append(d.NotSeen, Finding{f, b.Machine})
			}
		}
	}
	return d
}
