package render

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"anchorage.example/unicrux/core/audit"
	"anchorage.example/unicrux/core/policy"
)

// AuditMetrics writes figures of a report in the text form that metrics stores read. No person, path or host is in a
// label: there are as many lines on a machine of a thousand homes as on one of two.
func AuditMetrics(r *audit.Report) string {
	var b strings.Builder
	head := func(name, help string) { fmt.Fprintf(&b, "# HELP %s %s\n# TYPE %s gauge\n", name, help, name) }
	head("unicrux_findings", "Findings that no exception allows, by rule.")
	counts := map[string]int{}
	for _, f := range r.Findings {
		if f.Except == nil {
			counts[f.Code]++
		}
	}
	for _, code := range policy.Codes() {
		if level := r.Policy.Rule(code.Name).Level; level != policy.Off && !code.OfMany() {
			fmt.Fprintf(&b, "unicrux_findings{code=%q,level=%q} %d\n", code.Name, level, counts[code.Name])
		}
	}
	head("unicrux_homes", "Homes, by how far they could be looked at.")
	for _, state := range []audit.State{audit.Read, audit.Partly, audit.Unread} {
		n := 0
		for _, home := range r.Homes {
			if home.State == state {
				n++
			}
		}
		fmt.Fprintf(&b, "unicrux_homes{state=%q} %d\n", state, n)
	}
	if ends := soonest(r); len(ends) > 0 {
		head("unicrux_soonest_end_seconds", "When the next one ends, in seconds since 1970.")
		for _, what := range []string{"certificate", "exception", "token"} {
			if at, any := ends[what]; any {
				fmt.Fprintf(&b, "unicrux_soonest_end_seconds{what=%q} %d\n", what, at.Unix())
			}
		}
	}
	if r.Applied.Hash != "" {
		head("unicrux_state_info", "The state that was applied, by the SHA-256 of its file.")
		fmt.Fprintf(&b, "unicrux_state_info{sha256=%q} 1\n", r.Applied.Hash)
	}
	head("unicrux_audit_time_seconds", "When the machine was looked at, in seconds since 1970.")
	fmt.Fprintf(&b, "unicrux_audit_time_seconds %d\n", r.When.Unix())
	head("unicrux_audit_complete", "Whether each home was read as a whole.")
	fmt.Fprintf(&b, "unicrux_audit_complete %d\n", map[bool]int{true: 1}[r.Complete])
	return b.String()
}

// soonest is when the next certificate, exception and token ends that has not ended yet.
func soonest(r *audit.Report) map[string]time.Time {
	ends := map[string][]time.Time{}
	for _, home := range r.Homes {
		for _, c := range home.Certificates {
			ends["certificate"] = append(ends["certificate"], c.Until)
		}
		for _, t := range home.Tokens {
			if !t.Renews {
				ends["token"] = append(ends["token"], t.Until)
			}
		}
	}
	for _, e := range r.Policy.Except {
		ends["exception"] = append(ends["exception"], e.Until.AsTime(r.When.Location()).AddDate(0, 0, 1))
	}
	first := map[string]time.Time{}
	for what, list := range ends {
		list = slices.DeleteFunc(list, func(t time.Time) bool { return !t.After(r.When) })
		if len(list) > 0 {
			first[what] = slices.MinFunc(list, time.Time.Compare)
		}
	}
	return first
}
