package render

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"
	"unique"

	"anchorage.example/unicrux/core/audit"
	"anchorage.example/unicrux/core/gather"
	"anchorage.example/unicrux/core/policy"
	"anchorage.example/unicrux/core/untrusted"
	"anchorage.example/unicrux/render/document"
)

// ReportOf is a report as it is gathered. Whatever stands in it is another's text.
func ReportOf(file string, d *document.Audit) gather.Report {
	r := gather.Report{File: file, Name: untrusted.Clean(d.Machine.Name), When: d.When, Complete: d.Complete,
		Version: once(d.Program.Version), Homes: len(d.Homes)}
	if d.Machine.ID != nil {
		r.ID = untrusted.Clean(*d.Machine.ID)
	}
	if d.Policy != nil {
		r.Policy = once(d.Policy.SHA256)
	}
	if d.Applied != nil {
		r.State = once(d.Applied.SHA256)
	}
	r.Findings = make([]audit.Finding, 0, len(d.Findings))
	for _, f := range d.Findings {
		found := audit.Finding{ID: untrusted.Clean(f.ID), Code: once(f.Code), Level: levelOf(f.Level),
			Thing: once(f.Thing)}
		if f.Person != nil {
			found.Person = once(*f.Person)
		}
		if f.Excepted != nil {
			found.Except = &someException
		}
		r.Findings = append(r.Findings, found)
	}
	for _, home := range d.Homes {
		person := fmt.Sprintf("uid %d", home.UID)
		if home.Person != nil {
			person = once(*home.Person)
		}
		for _, k := range home.Keys {
			if k.Fingerprint != nil {
				r.Keys = append(r.Keys, gather.Key{Fingerprint: untrusted.Clean(*k.Fingerprint), Person: person,
					File: once(k.File)})
			}
		}
	}
	return r
}

// levelOf is a level that a report names; another word is the least of them.
func levelOf(text string) policy.Level {
	if _, known := levelTones[policy.Level(text)]; !known {
		return policy.Tell
	}
	return policy.Level(text)
}

// someException is the one of another machine's policy: which it is does not matter here.
var someException policy.Exception

// once is a text of another's, kept once in memory: many reports say the same.
func once(text string) string { return unique.Make(untrusted.Clean(text)).Value() }

// BeforeOf is an older gathering, as far as it is compared.
func BeforeOf(d *document.Gather) []gather.Before {
	return document.Map(d.Machines, func(m document.GatherMachine) gather.Before {
		b := gather.Before{Machine: m.Name}
		if m.ID != nil {
			b.ID = *m.ID
		}
		for _, f := range m.Findings {
			b.Findings = append(b.Findings, audit.Finding{ID: f.ID, Code: f.Code, Level: policy.Level(f.Level),
				Thing: f.Thing})
		}
		return b
	})
}

// Gather writes what many reports come to: who is silent first, then what is about machines, the rules, the machines
// with the most to mend.
func Gather(s Style, t *gather.Together, drift *gather.Drift) string {
	text := s.Sentences(gatherSummary(t))
	if drift != nil {
		text += s.Sentences(gatherDriftSummary(*drift))
	}
	if len(t.Silent) > 0 {
		text += "\n" + s.block(6, []row{{label: "silent", tone: rose, text: strings.Join(firstOf(t.Silent, 40), ", ")}})
	}
	if len(t.Extra) > 0 {
		text += "\n" + s.Sentences("Reported, and not expected: "+strings.Join(firstOf(t.Extra, 40), ", ")+".")
	}
	for _, group := range aboutGroups(t.Findings) {
		text += "\n" + s.aboutGroup(group)
	}
	text += s.gatherRules(t, drift) + s.mostToMend(t)
	if len(t.Unread) > 0 {
		var rows [][]string
		for _, u := range t.Unread[:min(len(t.Unread), mostOfRule)] {
			rows = append(rows, []string{cmp.Or(u.File, "standard input"), u.Why})
		}
		text += "\n" + s.Sentences("Not reports, or not to be read:") + s.table([]string{"file", "why"}, rows)
	}
	return text
}

// firstOf are the first of a list, and how many more there are.
func firstOf(list []string, most int) []string {
	if more := len(list) - most; more > 0 {
		return append(append([]string{}, list[:most]...), fmt.Sprintf("and %d more", more))
	}
	return list
}

func gatherSummary(t *gather.Together) string {
	must, on, old, incomplete := 0, 0, 0, 0
	for _, m := range t.Machines {
		must += m.Must
		if m.Must > 0 {
			on++
		}
		if m.Old {
			old++
		}
		if !m.Complete {
			incomplete++
		}
	}
	words := capital(count(len(t.Machines), "machine", "machines")) + " reported"
	var but []string
	for _, part := range []struct {
		n    int
		text string
	}{{len(t.Silent), "silent"}, {old, "with an old report"}, {incomplete, "with an incomplete one"}} {
		if part.n > 0 {
			but = append(but, fmt.Sprintf("%d %s", part.n, part.text))
		}
	}
	if len(but) > 0 {
		words += "; " + strings.Join(but, ", ")
	}
	if must == 0 {
		return words + ". Nothing on them must be mended."
	}
	return fmt.Sprintf("%s. %s must be mended, on %s.", words, capital(count(must, "thing", "things")), count(on,
		"machine",
		"machines"))
}

func gatherDriftSummary(d gather.Drift) string {
	text := fmt.Sprintf("Since %s: %d new, %d still there, %d gone.", d.When.Format(time.DateOnly), len(d.New),
		len(d.Still), len(d.Gone))
	if n := len(d.NotSeen); n > 0 {
		text += fmt.Sprintf(" Of %d it is not known, because nobody looked there as a whole.", n)
	}
	return text
}

// aboutGroups puts findings about machines together by their rule, without those that are silent: they stand first.
func aboutGroups(findings []gather.Finding) (groups [][]gather.Finding) {
	for _, f := range findings {
		switch n := len(groups); {
		case f.Code == policy.MachineSilent || f.Except != nil:
		case n > 0 && groups[n-1][0].Code == f.Code:
			groups[n-1] = append(groups[n-1], f)
		default:
			groups = append(groups, []gather.Finding{f})
		}
	}
	return groups
}

func (s Style) aboutGroup(group []gather.Finding) string {
	rule, _ := policy.Of(group[0].Code)
	level := group[0].Level
	text := s.block(6, []row{{label: string(level), tone: levelTones[level], lines: []string{s.paint(bold,
		rule.Name)}}})
	var rows [][]string
	for _, f := range group[:min(len(group), mostOfRule)] {
		rows = append(rows, []string{f.Thing, f.Also})
	}
	heads, rows := withoutEmpty([]string{"what", ""}, rows)
	text += indent(s.narrower().table(heads, rows))
	if more := len(group) - mostOfRule; more > 0 {
		text += s.block(6, []row{{text: fmt.Sprintf("And %d more: --json has them all.", more), quiet: true}})
	}
	return text
}

// gatherRules is the table of rules over all machines.
func (s Style) gatherRules(t *gather.Together, drift *gather.Drift) string {
	changed := map[string]document.GatherDriftRule{}
	if drift != nil {
		for _, rule := range driftRules(*drift) {
			changed[rule.Code] = rule
		}
	}
	var rows [][]string
	for _, rule := range t.Rules {
		row := []string{string(rule.Level), rule.Code, fmt.Sprint(rule.Findings), fmt.Sprint(rule.Machines), "", "", ""}
		if rule.Excepted > 0 {
			row[4] = fmt.Sprint(rule.Excepted)
		}
		if drift != nil {
			row[5], row[6] = fmt.Sprint(changed[rule.Code].New), fmt.Sprint(changed[rule.Code].Gone)
		}
		rows = append(rows, row)
	}
	if len(rows) == 0 {
		return ""
	}
	heads, rows := withoutEmpty([]string{"", "rule", "findings", "machines", "allowed", "new", "gone"}, rows)
	return "\n" + s.table(heads, rows)
}

// mostToMend lists the machines with the most that must be mended.
func (s Style) mostToMend(t *gather.Together) string {
	var rows [][]string
	for _, m := range gather.Worst(t.Machines, mostOfRule) {
		rows = append(rows, []string{m.Name, fmt.Sprint(m.Must), fmt.Sprint(m.Should), m.When.Format(time.DateOnly)})
	}
	if len(rows) == 0 {
		return ""
	}
	return "\n" + s.table([]string{"most to mend", "must", "should", "looked at"}, rows)
}

// GatherDocument makes the document of a gathering.
func GatherDocument(t *gather.Together, drift *gather.Drift) any {
	d := document.Gather{Schema: document.Schema("gather"), When: t.When, Reported: len(t.Machines),
		OlderCount: t.Older,
		Machines:   document.Map(t.Machines, gatherMachine), Silent: document.List(t.Silent),
		Unexpected: document.List(t.Extra),
		Findings: document.Map(t.Findings, func(f gather.Finding) document.GatherAbout {
			return document.GatherAbout{Code: f.Code, Level: string(f.Level), MachineName: document.Text(f.Machine),
				Thing: f.Thing, Detail: f.Also}
		}),
		Rules: document.Map(t.Rules, func(r gather.Rule) document.GatherRule {
			return document.GatherRule{Code: r.Code, Level: string(r.Level), Count: r.Findings, Machines: r.Machines,
				ExceptedCount: r.Excepted}
		}),
		Unread: document.Map(t.Unread, func(u gather.Unread) document.GatherUnread {
			return document.GatherUnread{File: document.Text(document.Path(u.File)), Reason: u.Why}
		})}
	if drift != nil {
		d.Against = &document.GatherDrift{Since: drift.When, Rules: driftRules(*drift)}
	}
	return d
}

func gatherMachine(m gather.Machine) document.GatherMachine {
	return document.GatherMachine{Name: m.Name, ID: document.Text(m.ID), File: document.Text(document.Path(m.File)),
		When:     m.When,
		Complete: m.Complete, Old: m.Old, Program: m.Version, PolicySHA256: document.Text(m.Policy),
		StateSHA256: document.Text(m.State), Homes: m.Homes, Must: m.Must, Should: m.Should, Tell: m.Tell,
		Findings: document.Map(m.Findings, func(f audit.Finding) document.GatherFound {
			return document.GatherFound{ID: f.ID, Code: f.Code, Level: string(f.Level), Person: document.Text(f.Person),
				Thing: f.Thing}
		})}
}

// driftRules counts what changed, in the order of the rules.
func driftRules(d gather.Drift) []document.GatherDriftRule {
	counts := map[string]*document.GatherDriftRule{}
	at := func(code string) *document.GatherDriftRule {
		if counts[code] == nil {
			counts[code] = &document.GatherDriftRule{Code: code}
		}
		return counts[code]
	}
	for _, f := range d.New {
		at(f.Code).New++
	}
	for _, f := range d.Still {
		at(f.Code).Still++
	}
	for _, f := range d.Gone {
		at(f.Code).Gone++
	}
	for _, f := range d.NotSeen {
		at(f.Code).NotSeen++
	}
	list := []document.GatherDriftRule{}
	for _, code := range sortedKeys(counts) {
		list = append(list, *counts[code])
	}
	return list
}

// GatherMetrics writes figures of a gathering, with no name in a label.
func GatherMetrics(t *gather.Together) string {
	var b strings.Builder
	head := func(name, help string) { fmt.Fprintf(&b, "# HELP %s %s\n# TYPE %s gauge\n", name, help, name) }
	states := map[string]int{"reported": len(t.Machines), "silent": len(t.Silent), "old": 0, "incomplete": 0}
	for _, m := range t.Machines {
		if m.Old {
			states["old"]++
		}
		if !m.Complete {
			states["incomplete"]++
		}
	}
	head("unicrux_machines", "Machines, by what is known of them.")
	for _, state := range sortedKeys(states) {
		fmt.Fprintf(&b, "unicrux_machines{state=%q} %d\n", state, states[state])
	}
	head("unicrux_all_findings", "Findings of all machines that no exception allows, by rule.")
	for _, rule := range t.Rules {
		if _, known := policy.Of(rule.Code); known { // a report may say anything
			fmt.Fprintf(&b, "unicrux_all_findings{code=%q,level=%q} %d\n", rule.Code, rule.Level, rule.Findings)
		}
	}
	head("unicrux_gather_time_seconds", "When the reports were gathered, in seconds since 1970.")
	fmt.Fprintf(&b, "unicrux_gather_time_seconds %d\n", t.When.Unix())
	return b.String()
}

// sortedKeys are the keys of a map, in their order.
func sortedKeys[T any](m map[string]T) []string { return slices.Sorted(maps.Keys(m)) }
