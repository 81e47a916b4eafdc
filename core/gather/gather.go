// Package gather makes one of the reports of many machines: which of them are silent, what is to be mended on how many,
// which keys are on several. It reads no file and asks nobody.
//
// [New] begins; each report is added, and only what matters among many is kept of it.
package gather

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"anchorage.example/unicrux/core/audit"
	"anchorage.example/unicrux/core/policy"
)

// A Report is what one machine's says.
type Report struct {
	File     string // it was read from
	Name     string // of the machine
	ID       string // tells machines of one name apart; empty where it has none
	When     time.Time
	Complete bool
	Version  string // of the program that made it
	Policy   string // SHA-256 of the policy; empty for none
	State    string // of the state that was applied; empty for none
	Homes    int
	Findings []audit.Finding
	Keys     []Key
}

// A Key is a private key on a machine.
type Key struct {
	Fingerprint, Person, File string
}

// A Machine is one that reported.
type Machine struct {
	Report                  // without its keys
	Must, Should, Tell int  // findings that no exception allows
	Old                bool // the report is older than the policy asks
}

// A Finding is one about a machine among many.
type Finding struct {
	audit.Finding

	Machine string
}

// A Rule is what was found by it on all machines.
type Rule struct {
	Code               string
	Level              policy.Level
	Findings, Machines int // that no exception allows
	Excepted           int
}

// An Unread is a report that could not be read.
type Unread struct {
	File, Why string
}

// Together is what many reports come to.
type Together struct {
	When     time.Time
	Machines []Machine // in the order of their names
	Silent   []string  // that are expected and did not report
	Extra    []string  // that reported and are not expected, where somebody said which are
	Findings []Finding // about machines, and keys on several of them; the most urgent first
	Rules    []Rule    // of the machines' own findings; the most urgent first
	Unread   []Unread
	Older    int // reports that a newer one of the same machine replaces
}

// Options say what is asked of reports.
type Options struct {
	Policy policy.Policy
	Expect []string // names of machines that should report; none where nobody said so
	Now    time.Time
}

// A Gathering is under way.
type Gathering struct {
	o        Options
	machines map[string]*Machine // by name and number
	places   map[string][]place  // of keys, by fingerprint
	unread   []Unread
	older    int
}

// A place is where a key is.
type place struct {
	machine, person, file string
}

// New begins.
func New(o Options) *Gathering {
	return &Gathering{o: o, machines: map[string]*Machine{}, places: map[string][]place{}}
}

// Wrong notes a file that is no report.
func (g *Gathering) Wrong(file, why string) { g.unread = append(g.unread, Unread{file, why}) }

// Add adds a report. Of two of one machine the newer one counts.
func (g *Gathering) Add(r Report) {
	name := r.Name + "\x00" + r.ID
	if before := g.machines[name]; before != nil {
		g.older++
		if !r.When.After(before.When) {
			return
		}
		g.forget(name)
	}
	m := &Machine{Report: r}
	m.Keys = nil
	for _, f := range r.Findings {
		switch {
		case f.Except != nil:
		case f.Level == policy.Must:
			m.Must++
		case f.Level == policy.Should:
			m.Should++
		case f.Level == policy.Tell:
			m.Tell++
		}
	}
	days := g.o.Policy.Rule(policy.ReportOld).Days
	m.Old = days > 0 && g.o.Now.Sub(r.When) > time.Duration(days)*24*time.Hour
	g.machines[name] = m
	for _, k := range r.Keys {
		if k.Fingerprint != "" {
			g.places[k.Fingerprint] = append(g.places[k.Fingerprint], place{name, k.Person, k.File})
		}
	}
}

// forget takes the keys of an older report out.
func (g *Gathering) forget(name string) {
	for print, list := range g.places {
		g.places[print] = slices.DeleteFunc(list, func(p place) bool { return p.machine == name })
	}
}

// Done is what all of them come to.
func (g *Gathering) Done() *Together {
	t := &Together{When: g.o.Now, Unread: g.unread, Older: g.older}
	names := map[string]bool{}
	for _, name := range slices.Sorted(maps.Keys(g.machines)) {
		m := g.machines[name]
		names[m.Name] = true
		t.Machines = append(t.Machines, *m)
	}
	g.judge(t, names)
	t.Rules = rules(t.Machines)
	slices.SortStableFunc(t.Findings, func(a, b Finding) int {
		return cmp.Or(cmp.Compare(rank(a.Level), rank(b.Level)), cmp.Compare(a.Code, b.Code),
			cmp.Compare(a.Machine, b.Machine), cmp.Compare(a.Thing, b.Thing))
	})
	return t
}

func rank(l policy.Level) int {
	return slices.Index([]policy.Level{policy.Must, policy.Should, policy.Tell}, l)
}

// judge finds what only many reports tell.
func (g *Gathering) judge(t *Together, names map[string]bool) {
	add := func(code, machine, thing, also string) {
		f := audit.Weigh(audit.Finding{Code: code, Thing: thing, Also: also}, g.o.Policy, g.o.Now)
		if f.Level != policy.Off && f.Level != "" {
			t.Findings = append(t.Findings, Finding{f, machine})
		}
	}
	expected := map[string]bool{}
	for _, name := range g.o.Expect {
		if expected[name] = true; !names[name] {
			t.Silent = append(t.Silent, name)
			add(policy.MachineSilent, name, name, "")
		}
	}
	for _, m := range t.Machines {
		if len(expected) > 0 && !expected[m.Name] {
			t.Extra = append(t.Extra, m.Name)
		}
		if m.Old {
			add(policy.ReportOld, m.Name, m.Name, m.When.Format(time.DateOnly))
		}
		if !m.Complete {
			add(policy.ReportIncomplete, m.Name, m.Name, "")
		}
	}
	for _, print := range slices.Sorted(maps.Keys(g.places)) {
		if where := g.machinesOf(g.places[print]); len(where) > 1 {
			add(policy.KeyCopied, "", print, "on "+some(where))
		}
	}
	slices.Sort(t.Silent)
}

// machinesOf names the machines on which a key is, each with whose it is there.
func (g *Gathering) machinesOf(places []place) []string {
	var list []string
	seen := map[string]bool{}
	for _, p := range places {
		if !seen[p.machine] {
			seen[p.machine] = true
			list = append(list, fmt.Sprintf("%s (%s)", g.machines[p.machine].Name, p.person))
		}
	}
	slices.Sort(list)
	return list
}

// some names the first of a list, and how many more there are.
func some(list []string) string {
	const most = 3
	if more := len(list) - most; more > 0 {
		return fmt.Sprintf("%s and %d more", strings.Join(list[:most], ", "), more)
	}
	return strings.Join(list, ", ")
}

// rules counts the machines' own findings.
func rules(machines []Machine) []Rule {
	counts := map[string]*Rule{}
	for _, m := range machines {
		here := map[string]bool{}
		for _, f := range m.Findings {
			rule := counts[f.Code]
			if rule == nil {
				rule = &Rule{Code: f.Code, Level: f.Level}
				counts[f.Code] = rule
			}
			if f.Except != nil {
				rule.Excepted++
				continue
			}
			rule.Findings++
			if rank(f.Level) < rank(rule.Level) { // machines may have policies of their own
				rule.Level = f.Level
			}
			if !here[f.Code] {
				here[f.Code] = true
				rule.Machines++
			}
		}
	}
	var list []Rule
	for _, code := range slices.Sorted(maps.Keys(counts)) {
		list = append(list, *counts[code])
	}
	slices.SortStableFunc(list, func(a, b Rule) int {
		return cmp.Or(cmp.Compare(rank(a.Level), rank(b.Level)), cmp.Compare(b.Findings, a.Findings))
	})
	return list
}

// Wrong tells whether something must be mended.
func (t *Together) Wrong() bool {
	return slices.ContainsFunc(t.Findings, func(f Finding) bool { return f.Level == policy.Must && f.Except == nil }) ||
		slices.ContainsFunc(t.Machines, func(m Machine) bool { return m.Must > 0 })
}

// Whole tells whether each report could be read and looked at all of its machine, or the policy excuses it.
func (t *Together) Whole() bool {
	return len(t.Unread) == 0 && !slices.ContainsFunc(t.Findings, func(f Finding) bool {
		return f.Code == policy.ReportIncomplete && f.Except == nil
	})
}

// Worst are the machines with the most that must be mended, at most so many; none of those where nothing must.
func Worst(machines []Machine, most int) []Machine {
	list := slices.DeleteFunc(slices.Clone(machines), func(m Machine) bool { return m.Must == 0 })
	slices.SortStableFunc(list, func(a, b Machine) int {
		return cmp.Or(cmp.Compare(b.Must, a.Must), cmp.Compare(b.Should, a.Should))
	})
	return list[:min(len(list), most)]
}
