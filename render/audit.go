package render

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"anchorage.example/unicrux/core/about"
	"anchorage.example/unicrux/core/audit"
	"anchorage.example/unicrux/core/policy"
	"anchorage.example/unicrux/render/document"
)

// mostOfRule bounds how many findings of one rule are written for a reader; the document has all.
const mostOfRule = 12

// levelTones are the tones of the levels.
var levelTones = map[policy.Level]tone{policy.Must: rose, policy.Should: ochre, policy.Tell: grey}

// Audit writes what was found on a machine: a sentence, then each rule with what breaks it and what to do.
func Audit(s Style, r *audit.Report, drift *audit.Drift) string {
	text := s.Sentences(auditSummary(r))
	if drift != nil {
		text += s.Sentences(driftSummary(*drift))
	}
	groups, excepted := auditGroups(r.Findings)
	for _, group := range groups {
		text += "\n" + s.auditGroup(group, drift)
	}
	if len(excepted) > 0 {
		text += "\n" + s.auditExcepted(excepted)
	}
	if rows := unreadHomes(r); len(rows) > 0 {
		text += "\n" + s.Sentences("Not everything could be looked at:") + s.table([]string{"home", "state", "why"},
			rows)
	}
	return text
}

func auditSummary(r *audit.Report) string {
	by := "by what holds without a policy"
	if r.Policy.File != "" {
		by = "by the policy " + strings.TrimSpace(r.Policy.Name+" "+r.Policy.Version) + " (" + r.Policy.File + ")"
	}
	counts := map[policy.Level]int{}
	for _, f := range r.Findings {
		if f.Except == nil {
			counts[f.Level]++
		}
	}
	found := "Nothing is to be mended."
	if must, should, tell := counts[policy.Must], counts[policy.Should], counts[policy.Tell]; must+should+tell > 0 {
		found = fmt.Sprintf("%s must be mended, %d should be, %d %s only mentioned.",
			capital(count(must, "thing", "things")), should, tell, map[bool]string{true: "is", false: "are"}[tell == 1])
	}
	return fmt.Sprintf("%s of %s %s looked at, %s. %s", capital(count(len(r.Homes), "home", "homes")), r.Machine,
		map[bool]string{true: "was", false: "were"}[len(r.Homes) == 1], by, found)
}

func driftSummary(d audit.Drift) string {
	text := fmt.Sprintf("Since %s: %d new, %d still there, %d gone.", d.When.Format(time.DateOnly), len(d.New),
		len(d.Still),
		len(d.Gone))
	if n := len(d.NotSeen); n > 0 {
		text += fmt.Sprintf(" Of %d it is not known, because their homes were not read this time.", n)
	}
	return text
}

// auditGroups puts findings of one rule together, in their order, and those apart that an exception allows.
func auditGroups(findings []audit.Finding) (groups [][]audit.Finding, excepted []audit.Finding) {
	for _, f := range findings {
		switch n := len(groups); {
		case f.Except != nil:
			excepted = append(excepted, f)
		case n > 0 && groups[n-1][0].Code == f.Code:
			groups[n-1] = append(groups[n-1], f)
		default:
			groups = append(groups, []audit.Finding{f})
		}
	}
	return groups, excepted
}

func (s Style) auditGroup(group []audit.Finding, drift *audit.Drift) string {
	code, _ := policy.Of(group[0].Code)
	text := s.block(6, []row{{label: string(group[0].Level), tone: levelTones[group[0].Level],
		lines: []string{s.paint(bold, code.Name)}, text: ""}})
	text += s.block(6, []row{{text: code.Means}})
	isNew := map[string]bool{}
	if drift != nil {
		for _, f := range drift.New {
			isNew[f.ID] = true
		}
	}
	var rows [][]string
	for _, f := range group[:min(len(group), mostOfRule)] {
		cells := []string{who(f), f.Thing, auditWhere(f), f.Also}
		if drift != nil {
			cells = append([]string{map[bool]string{true: "new", false: ""}[isNew[f.ID]]}, cells...)
		}
		rows = append(rows, cells)
	}
	heads := []string{"person", "what", "where", ""}
	if drift != nil {
		heads = append([]string{""}, heads...)
	}
	heads, rows = withoutEmpty(heads, rows)
	text += indent(s.narrower().table(heads, rows))
	if more := len(group) - mostOfRule; more > 0 {
		text += s.block(6, []row{{text: fmt.Sprintf("And %d more: --json has them all.", more), quiet: true}})
	}
	if code.Mend != "" {
		text += s.block(6, []row{{label: "mend", tone: teal, text: code.Mend}})
	}
	return text
}

// narrower leaves the room that an indented table has less.
func (s Style) narrower() Style {
	if s.Width > 0 {
		s.Width = max(minWidth, s.Width-8)
	}
	return s
}

// indent moves lines below the words that they belong to.
func indent(text string) string {
	var b strings.Builder
	for line := range strings.Lines(text) {
		b.WriteString("        " + line)
	}
	return b.String()
}

// withoutEmpty leaves out columns in which nothing stands.
func withoutEmpty(heads []string, rows [][]string) ([]string, [][]string) {
	var kept []int
	for i := range heads {
		if slices.ContainsFunc(rows, func(cells []string) bool { return cells[i] != "" }) {
			kept = append(kept, i)
		}
	}
	pick := func(cells []string) []string {
		var some []string
		for _, i := range kept {
			some = append(some, cells[i])
		}
		return some
	}
	for n, cells := range rows {
		rows[n] = pick(cells)
	}
	return pick(heads), rows
}

func who(f audit.Finding) string {
	if f.Person == "" {
		return "machine"
	}
	return f.Person
}

func auditWhere(f audit.Finding) string {
	if f.Origin == f.Thing {
		return ""
	}
	if f.Line > 0 {
		return fmt.Sprintf("%s:%d", f.Origin, f.Line)
	}
	return f.Origin
}

func (s Style) auditExcepted(list []audit.Finding) string {
	var rows [][]string
	for _, f := range list {
		rows = append(rows, []string{f.Code, who(f), f.Thing, f.Except.Until.String(), f.Except.Why})
	}
	return s.Sentences(capital(count(len(list), "finding is", "findings are"))+" allowed by an exception for now:") +
		s.tableWithout([]string{"rule", "person", "what", "until", "why"}, rows, "what")
}

func unreadHomes(r *audit.Report) [][]string {
	var rows [][]string
	for _, home := range r.Homes {
		if home.State != audit.Read {
			rows = append(rows, []string{home.Path, string(home.State), home.Why})
		}
	}
	return rows
}

// AuditDocument makes the document of a report.
func AuditDocument(r *audit.Report, drift *audit.Drift) any {
	d := document.Audit{Schema: document.Schema("audit"), When: r.When, TookSeconds: r.Took.Seconds(),
		Complete: r.Complete,
		Machine:  document.AuditMachine{Name: r.Machine, ID: document.Text(r.ID)},
		Program:  document.AuditProgram{Version: about.Version, Commit: document.Text(about.Commit)},
		Homes:    document.Map(r.Homes, auditHome), Findings: document.Map(r.Findings, auditFinding),
		Counts: auditCounts(r.Findings)}
	d.Policy, d.Applied = PolicyDocument(r.Policy), AppliedDocument(r.Applied)
	if drift != nil {
		id := func(f audit.Finding) string { return f.ID }
		d.Against = &document.AuditDrift{When: drift.When, New: document.Map(drift.New, id),
			Still: document.Map(drift.Still, id), Gone: document.Map(drift.Gone, id),
			NotSeen: document.Map(drift.NotSeen, id)}
	}
	return d
}

// PolicyDocument says which policy was asked; nil for none.
func PolicyDocument(p policy.Policy) *document.AuditPolicy {
	if p.File == "" {
		return nil
	}
	return &document.AuditPolicy{Name: p.Name, Version: p.Version, SHA256: p.Hash, File: document.Path(p.File)}
}

func auditHome(h audit.Home) document.AuditHome {
	return document.AuditHome{Person: document.Text(h.Person), UID: h.UID, Path: document.Path(h.Path),
		State: string(h.State),
		Why:   document.Text(h.Why), Keys: document.Map(h.Keys, auditKey), StoredHostKeys: h.Stored,
		Certificates: document.Map(h.Certificates, auditCertificate), Tokens: document.Map(h.Tokens, auditToken),
		Hosts: document.Map(h.Hosts, func(h audit.Host) document.AuditHost {
			return document.AuditHost{Name: h.Name, At: h.At, ByAdministrator: h.Managed}
		})}
}

func auditKey(k audit.Key) document.AuditKey {
	d := document.AuditKey{File: k.Path, Fingerprint: document.Text(k.Fingerprint),
		PublicLine: document.Text(k.Line), Type: document.Text(k.Kind), HasPassphrase: k.Locked, InDevice: k.Device,
		Modified: k.Made, KnownAt: document.List(k.KnownAt)}
	if k.Bits > 0 {
		d.Bits = &k.Bits
	}
	return d
}

func auditCertificate(c audit.Certificate) document.AuditCertificate {
	return document.AuditCertificate{File: c.Path, Fingerprint: c.Fingerprint, Authority: c.Authority,
		Principals: document.List(c.Principals), From: document.Time(c.From), Until: document.Time(c.Until)}
}

func auditToken(t audit.Token) document.AuditToken {
	return document.AuditToken{Name: t.Name, At: t.At, Host: document.Text(t.Host), User: document.Text(t.User),
		Account: document.Text(t.Account), ID: document.Text(t.ID), Place: t.Place, Purposes: document.List(t.Purposes),
		Scopes: document.List(t.Scopes), Made: document.Time(t.Made), Until: document.Time(t.Until), Renews: t.Renews}
}

func auditFinding(f audit.Finding) document.AuditFinding {
	d := document.AuditFinding{ID: f.ID, Code: f.Code, Level: string(f.Level), Person: document.Text(f.Person),
		Thing: f.Thing,
		File:  f.Origin, Detail: f.Also, Since: f.Since}
	if f.Line > 0 {
		d.Line = &f.Line
	}
	if f.Except != nil {
		d.Excepted = &document.AuditException{Until: f.Except.Until.String(), Why: f.Except.Why}
	}
	return d
}

func auditCounts(findings []audit.Finding) []document.AuditCount {
	counts := []document.AuditCount{}
	for _, f := range findings {
		i := slices.IndexFunc(counts, func(c document.AuditCount) bool { return c.Code == f.Code })
		if i < 0 {
			i = len(counts)
			counts = append(counts, document.AuditCount{Code: f.Code, Level: string(f.Level)})
		}
		counts[i].Count++
		if f.Except != nil {
			counts[i].ExceptedCount++
		}
	}
	return counts
}
