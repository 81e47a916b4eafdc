package render

import (
	_ "embed" // the style
	"fmt"
	"slices"
	"strings"
	"time"

	"anchorage.example/unicrux/core/audit"
	"anchorage.example/unicrux/core/policy"
	"anchorage.example/unicrux/core/sshkey"
)

//go:embed page.css
var pageStyle string

// mostOnPage bounds how many findings of a rule are on the page; the report has all.
const mostOnPage = 200

// AuditPage writes a report as one page for a browser: no script, no request, for light, dark and paper. Every picture
// has its table beside it.
func AuditPage(r *audit.Report, drift *audit.Drift) string {
	var sections []markup
	links := markup("")
	add := func(id, title string, content markup) {
		if content == "" {
			return
		}
		links += markup(`<a href="#`+id+`">`) + text(title) + "</a>"
		sections = append(sections, markup(`<section id="`+id+`">`)+el("h2", text(title))+content+"</section>")
	}
	add("homes", "Homes, by what is most urgent there", rollCall(r))
	if drift != nil {
		add("since", "What changed since "+drift.When.Format(time.DateOnly), driftTable(drift))
	}
	add("ends", "What ends when", endings(r))
	add("keys", "Keys, by age and type", keyAges(r))
	add("opens", "Who opens what", whoOpens(r))
	groups, excepted := auditGroups(r.Findings)
	add("findings", "What was found", each(groups, func(g []audit.Finding) markup { return pageGroup(r, g) }))
	add("allowed", "Allowed by an exception for now", pageExcepted(excepted))
	return string("<!doctype html>\n<html lang=\"en\"><head><meta charset=\"utf-8\">" +
		`<meta http-equiv="Content-Security-Policy" content="default-src 'none'; style-src 'unsafe-inline'">` +
		`<meta name="viewport" content="width=device-width, initial-scale=1"><meta name="referrer" content="no-referrer">` +
		el("title", text(r.Machine+": audit of "+r.When.Format(time.DateOnly))) +
		markup("<style>"+pageStyle+"</style>") +
		"</head>\n<body>" + el("header", pageHead(r, drift)) + el("nav", links) + el("main", sections...) +
		"</body></html>\n")
}

// pageHead says which machine it is, and how it stands.
func pageHead(r *audit.Report, drift *audit.Drift) markup {
	counts := levelCounts(r)
	sum := func(level policy.Level, words string) markup {
		return el("div."+string(level), el("b", textf("%d", counts[level])), text(words))
	}
	head := el("h1", text(r.Machine)) + el("p.quiet", text("Looked at on "+r.When.Format("2006-01-02 15:04 MST")+". "+
		auditSummary(r)))
	if drift != nil {
		head += el("p.quiet", text(driftSummary(*drift)))
	}
	return head + el("div.sums", sum(policy.Must, "must be mended"), sum(policy.Should, "should be mended"),
		sum(policy.Tell, "only mentioned"))
}

// levelCounts counts the findings that no exception allows, by level.
func levelCounts(r *audit.Report) map[policy.Level]int {
	counts := map[policy.Level]int{}
	for _, f := range r.Findings {
		if f.Except == nil {
			counts[f.Level]++
		}
	}
	return counts
}

// pageGroup are the findings of one rule.
func pageGroup(r *audit.Report, group []audit.Finding) markup {
	rule, _ := policy.Of(group[0].Code)
	level := string(group[0].Level)
	lines := publicLines(r)
	var rows [][]markup
	for _, f := range group[:min(len(group), mostOnPage)] {
		rows = append(rows, []markup{text(who(f)), thing(f.Thing, lines), code(auditWhere(f)), text(f.Also),
			text("since " + f.Since.Format(time.DateOnly))})
	}
	inside := el("span.level."+level, text(level)) + el("h3", text(rule.Name)) + el("p", text(rule.Means))
	if rule.Mend != "" {
		inside += el("p.quiet", text("To mend it: "+rule.Mend))
	}
	inside += tableOf(filledColumns([]string{"person", "what", "where", "", ""}, rows))
	if more := len(group) - mostOnPage; more > 0 {
		inside += el("p.quiet", textf("And %d more: the report (--out) has them all.", more))
	}
	return el("div.rule", inside)
}

// filledColumns leaves out columns in which nothing is.
func filledColumns(heads []string, rows [][]markup) ([]string, [][]markup) {
	texts := make([][]string, len(rows))
	for i, row := range rows {
		for _, cell := range row {
			texts[i] = append(texts[i], string(cell))
		}
	}
	heads, texts = withoutEmpty(heads, texts)
	filled := make([][]markup, len(texts))
	for i, row := range texts {
		for _, cell := range row {
			filled[i] = append(filled[i], markup(cell)) // markup it was
		}
	}
	return heads, filled
}

// publicLines are those of the keys of a report, by fingerprint.
func publicLines(r *audit.Report) map[string]string {
	lines := map[string]string{}
	for _, home := range r.Homes {
		for _, k := range home.Keys {
			lines[k.Fingerprint] = k.Line
		}
	}
	return lines
}

// thing is what a finding is about: a key with its tide line.
func thing(name string, lines map[string]string) markup {
	key, _, err := sshkey.ParseLine([]byte(lines[name]))
	if err != nil {
		return code(name)
	}
	tide := Style{Lines: true}.tideLine(sshkey.Eye(key))
	return code(name) + " " + el("code.tide", text(tide))
}

func pageExcepted(list []audit.Finding) markup {
	var rows [][]markup
	for _, f := range list {
		rows = append(rows, []markup{text(f.Code), text(who(f)), code(f.Thing), text(f.Except.Until.String()),
			text(f.Except.Why)})
	}
	return tableOf([]string{"rule", "person", "what", "until", "why"}, rows)
}

// driftTable counts for each rule what is new, still there and gone.
func driftTable(d *audit.Drift) markup {
	counts := map[string]*[3]int{}
	for i, list := range [][]audit.Finding{d.New, d.Still, d.Gone} {
		for _, f := range list {
			if counts[f.Code] == nil {
				counts[f.Code] = new([3]int)
			}
			counts[f.Code][i]++
		}
	}
	most := 1
	for _, n := range counts {
		most = max(most, n[0]+n[1]+n[2])
	}
	var rows [][]markup
	for _, c := range policy.Codes() {
		if n := counts[c.Name]; n != nil {
			rows = append(rows, []markup{text(c.Name), driftBar(*n, most), textf("%d", n[0]), textf("%d", n[1]),
				textf("%d", n[2])})
		}
	}
	if len(rows) == 0 {
		return el("p", text("Nothing."))
	}
	return el("div.loose", tableOf([]string{"rule", "", "new#", "still there#", "gone#"}, rows), legend(
		legendOf("must", square(4), "new"), legendOf("should hollow", square(4), "still there"),
		el("span", text("line: gone"))))
}

// driftBar draws three numbers as one bar: new in full, still there in outline, gone as a line. most is the largest sum
// of all bars.
func driftBar(n [3]int, most int) markup {
	const width, high = 160, 12
	all := float64(most)
	box := func(class string, from, to float64) markup {
		if from == to {
			return ""
		}
		return markup(fmt.Sprintf(`<path class="shape %s" d="M%.1f 2h%.1fv8h-%.1fz"/>`, class, from*width/all+1,
			(to-from)*width/all-2, (to-from)*width/all-2))
	}
	first, second := float64(n[0]), float64(n[0]+n[1])
	words := fmt.Sprintf("%d new, %d still there, %d gone", n[0], n[1], n[2])
	return el("div.bar", picture(width, high, words, box("must", 0, first),
		box("should hollow", first, second), goneLine(second*width/all, float64(n[2])*width/all)))
}

func goneLine(from, length float64) markup {
	if length == 0 {
		return ""
	}
	return stroke("now", from+1, 6, from+length-1, 6)
}

// whoOpens is the table of people and hosts: what is known here to open them.
func whoOpens(r *audit.Report) markup {
	const mostPeople, mostHosts = 60, 12
	opens := map[string]map[string]string{}
	used := map[string]int{}
	note := func(person, host, mark string) {
		if host == "" {
			return
		}
		if opens[person] == nil {
			opens[person] = map[string]string{}
		}
		if !strings.Contains(opens[person][host], mark) {
			opens[person][host] += mark
		}
		used[host]++
	}
	var people []string
	for _, home := range r.Homes {
		for _, k := range home.Keys {
			for _, host := range k.KnownAt {
				note(home.Owner(), host, "●")
			}
		}
		for _, t := range home.Tokens {
			note(home.Owner(), t.Host, "◆")
		}
		if opens[home.Owner()] != nil && !slices.Contains(people, home.Owner()) {
			people = append(people, home.Owner())
		}
	}
	hosts := mostUsed(used)
	shown := hosts[:min(len(hosts), mostHosts)]
	var rows [][]markup
	for _, person := range people[:min(len(people), mostPeople)] {
		row := []markup{text(person)}
		for _, host := range shown {
			row = append(row, text(strings.Join(strings.Split(opens[person][host], ""), " ")))
		}
		rows = append(rows, row)
	}
	if len(rows) == 0 {
		return ""
	}
	heads := []string{"person"}
	for _, host := range shown {
		heads = append(heads, host+"·")
	}
	rest := markup("")
	if more := len(people) - mostPeople; more > 0 {
		rest += el("p.quiet", textf("And %d more people: the report (--out) has them all.", more))
	}
	if more := len(hosts) - mostHosts; more > 0 {
		rest += el("p.quiet", textf("And %d more hosts.", more))
	}
	return el("div.loose", tableOf(heads, rows)) + rest + el("p.quiet", text("● a key that the host was told about from there, or was "+
		"seen to accept. ◆ a token. What was registered elsewhere is not known here."))
}

// mostUsed orders names by how often they were counted.
func mostUsed(counts map[string]int) []string {
	var names []string
	for name := range counts {
		names = append(names, name)
	}
	slices.SortFunc(names, func(a, b string) int {
		if counts[a] != counts[b] {
			return counts[b] - counts[a]
		}
		return strings.Compare(a, b)
	})
	return names
}
