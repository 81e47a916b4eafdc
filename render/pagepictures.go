package render

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"anchorage.example/unicrux/core/audit"
	"anchorage.example/unicrux/core/policy"
)

// pictureWidth is how wide pictures are, in units of their own: those of a narrow screen, so that words on them can be
// read there.
const pictureWidth = 340

// urgency is how a home is drawn, by its worst finding: the more urgent, the larger.
type urgency struct {
	level policy.Level
	half  float64
	words string
}

var urgencies = []urgency{{policy.Must, 6, "something must be mended"}, {policy.Should, 4.5, "something should be"},
	{policy.Tell, 3.5, "something is only mentioned"}, {"none", 2, "nothing"}}

// worst is the most urgent level of what was found at each home, by its owner.
func worst(r *audit.Report) map[string]policy.Level {
	levels := map[string]policy.Level{}
	for _, f := range r.Findings { // the most urgent first
		if _, known := levels[f.Person]; !known && f.Except == nil {
			levels[f.Person] = f.Level
		}
	}
	return levels
}

// rollCall draws a mark for each home.
func rollCall(r *audit.Report) markup {
	const cell, perRow = 14, 24
	levels := worst(r)
	places := map[string][][2]float64{}
	counts := map[string]int{}
	for i, home := range r.Homes {
		class := string(cmp.Or(levels[home.Owner()], "none"))
		if home.State != audit.Read {
			class = "unread"
		}
		counts[class]++
		places[class] = append(places[class], [2]float64{float64(i%perRow)*cell + cell/2, float64(i/perRow)*cell +
			cell/2})
	}
	var shapes, keys []markup
	var rows [][]markup
	for _, u := range urgencies {
		class := string(u.level)
		shapes = append(shapes, marks(class, square(u.half), places[class]))
		if counts[class] > 0 {
			keys = append(keys, legendOf(class, square(u.half), u.words))
			rows = append(rows, []markup{text(u.words), textf("%d", counts[class])})
		}
	}
	shapes = append(shapes, marks("quiet hollow", square(5), places["unread"]))
	if n := counts["unread"]; n > 0 {
		keys = append(keys, legendOf("quiet hollow", square(5), "not looked at as a whole"))
		rows = append(rows, []markup{text("not looked at as a whole"), textf("%d", n)})
	}
	height := (len(r.Homes) + perRow - 1) / perRow * cell
	beside := tableOf([]string{"there", "homes#"}, rows) + urgentHomes(r)
	return el("div.beside", el("div", picture(pictureWidth, max(height, cell),
		"A mark for each home, larger where more "+
			"is to be mended", shapes...), legend(keys...)), el("div", beside))
}

// urgentHomes lists those with the most that must be mended.
func urgentHomes(r *audit.Report) markup {
	const most = 8
	counts := map[string][3]int{}
	var owners []string
	for _, f := range r.Findings {
		if f.Except != nil || f.Person == "" {
			continue
		}
		n, known := counts[f.Person]
		if !known {
			owners = append(owners, f.Person)
		}
		n[slices.Index([]policy.Level{policy.Must, policy.Should, policy.Tell}, f.Level)]++
		counts[f.Person] = n
	}
	slices.SortStableFunc(owners, func(a, b string) int {
		return cmp.Or(counts[b][0]-counts[a][0], counts[b][1]-counts[a][1], counts[b][2]-counts[a][2])
	})
	var rows [][]markup
	for _, owner := range owners[:min(len(owners), most)] {
		n := counts[owner]
		rows = append(rows, []markup{text(owner), textf("%d", n[0]), textf("%d", n[1]), textf("%d", n[2])})
	}
	return tableOf([]string{"most to mend", "must#", "should#", "tell#"}, rows)
}

// An ending is something that ends.
type ending struct {
	at     time.Time
	kind   string // token, certificate, exception
	person string
	name   string
}

// endingForms are how the kinds are drawn.
var endingForms = []struct {
	kind string
	form form
}{{"token", disc(4)}, {"certificate", square(4)}, {"exception", triangle(4.5)}}

// endingsOf lists what ends, the soonest first.
func endingsOf(r *audit.Report) []ending {
	var list []ending
	add := func(at time.Time, kind, person, name string) {
		if !at.IsZero() {
			list = append(list, ending{at, kind, person, name})
		}
	}
	for _, home := range r.Homes {
		for _, t := range home.Tokens {
			if !t.Renews {
				add(t.Until, "token", home.Owner(), t.Name)
			}
		}
		for _, c := range home.Certificates {
			add(c.Until, "certificate", home.Owner(), c.Path)
		}
	}
	for _, e := range r.Policy.Except {
		add(e.Until.AsTime(r.When.Location()).AddDate(0, 0, 1), "exception", e.Person, e.Rule)
	}
	slices.SortStableFunc(list, func(a, b ending) int { return a.at.Compare(b.at) })
	return list
}

// weeksShown is how many weeks the line of time has.
const weeksShown = 26

// endings draws what ends in which week: "ended" to the left of today, "later" to the right of the last week.
func endings(r *audit.Report) markup {
	const most, left, step, foot = 9, 48, 10, 104
	list := endingsOf(r)
	if len(list) == 0 {
		return ""
	}
	heights := map[int]int{}
	places := map[string][][2]float64{}
	var rows [][]markup
	for _, e := range list {
		week := max(-1, min(weeksShown, int(e.at.Sub(r.When).Hours()/24/7)))
		if e.at.Before(r.When) {
			week = -1
		}
		if heights[week]++; heights[week] <= most {
			key := e.kind
			if week < 0 {
				key += " ended"
			}
			places[key] = append(places[key], [2]float64{left + float64(week)*step + step/2,
				foot - 6 - float64(heights[week]-1)*10})
		}
		if len(rows) < 12 {
			rows = append(rows, []markup{text(when(e.at, r.When)), text(e.kind), text(cmp.Or(e.person, "everybody")),
				code(e.name)})
		}
	}
	shapes := []markup{stroke("axis", 10, foot, pictureWidth-10, foot), stroke("now", left, 8, left, foot+6),
		caption(left+2, foot+18, "start", "today"), caption(left-6, foot+18, "end", "ended"),
		caption(pictureWidth-6, foot+18, "end", "later")}
	for _, weeks := range []int{10, 20} {
		x := float64(left + weeks*step)
		shapes = append(shapes, stroke("axis", x, foot-3, x, foot+3), caption(x, foot+18, "middle",
			fmt.Sprintf("%d weeks", weeks)))
	}
	var keys []markup
	for _, f := range endingForms {
		shapes = append(shapes, marks("none", f.form, places[f.kind]), marks("must", f.form, places[f.kind+" ended"]))
		if len(places[f.kind])+len(places[f.kind+" ended"]) > 0 {
			keys = append(keys, legendOf("none", f.form, f.kind))
		}
	}
	for week, n := range heights {
		if n > most {
			shapes = append(shapes, caption(left+float64(week)*step+step/2, 10, "middle", fmt.Sprintf("+%d", n-most)))
		}
	}
	slices.Sort(shapes[5:]) // in an order that is the same each time
	table := tableOf([]string{"when", "what", "whose", ""}, rows)
	if more := len(list) - len(rows); more > 0 {
		table += el("p.quiet", textf("And %d more, later.", more))
	}
	return el("div.beside", el("div", picture(pictureWidth, 130, "What ends in which week", shapes...),
		legend(keys...)), el("div", table))
}

// when says how far a day is away, and which it is.
func when(at, now time.Time) string {
	if at.Before(now) {
		return age(at, now)
	}
	days := int(at.Sub(now).Hours() / 24)
	return "in " + count(days, "day", "days") + " (" + at.Format(time.DateOnly) + ")"
}

// A keyRow is one type of keys, and how old those are.
type keyRow struct {
	kind string
	ages []float64 // in years
	open int       // of those, without a passphrase
}

// keyAges draws each key by its age, a line of them for each type: filled without a passphrase, hollow with one.
func keyAges(r *audit.Report) markup {
	const left, right, row, dot = 92, 12, 26, 4
	rows, oldest, places := ageRows(r)
	if len(rows) == 0 {
		return ""
	}
	scale := (pictureWidth - left - right) / max(1, oldest)
	height := len(rows)*row + 24
	var shapes []markup
	var table [][]markup
	for i, kind := range rows {
		y := float64(i*row + row/2)
		shapes = append(shapes, stroke("axis", left, y, pictureWidth-right, y), caption(left-10, y+4, "end", kind.kind))
		table = append(table, []markup{text(kind.kind), textf("%d", len(kind.ages)), textf("%d", kind.open),
			textf("%.1f", slices.Max(kind.ages))})
	}
	at := func(list [][2]float64) (points [][2]float64) {
		for _, p := range list {
			points = append(points, [2]float64{left + p[0]*scale, p[1]*row + row/2})
		}
		return points
	}
	shapes = append(shapes, marks("none hollow", disc(dot), at(places["locked"])), marks("must", disc(dot),
		at(places["open"])), caption(left, float64(height-6), "middle", "new"), caption(pictureWidth-right,
		float64(height-6), "end", fmt.Sprintf("%.1f years", max(1, oldest))))
	keys := []markup{legendOf("none hollow", disc(dot), "with a passphrase"), legendOf("must", disc(dot),
		"without one")}
	if days := r.Policy.Rule(policy.KeyOld).Days; days > 0 && float64(days)/365 < oldest {
		x := left + float64(days)/365*scale
		shapes = append(shapes, stroke("limit", x, 0, x, float64(height-18)))
		keys = append(keys, el("span", textf("dashed: the policy's limit of %d days", days)))
	}
	return el("div.beside", el("div", picture(pictureWidth, height, "Keys by age, for each type", shapes...),
		legend(keys...)), el("div", tableOf([]string{"type", "keys#", "without passphrase#", "oldest, years#"}, table)))
}

// ageRows gathers the keys by type; places are the age and the row of each.
func ageRows(r *audit.Report) (rows []keyRow, oldest float64, places map[string][][2]float64) {
	places = map[string][][2]float64{}
	at := map[string]int{}
	type dot struct {
		kind, state string
		age         float64
	}
	var dots []dot
	for _, home := range r.Homes {
		for _, k := range home.Keys {
			d := dot{kind: cmp.Or(k.Kind, "unknown"), state: "open", age: max(0, r.When.Sub(k.Made).Hours()/24/365)}
			if d.kind == "rsa" && k.Bits > 0 {
				d.kind = fmt.Sprintf("rsa, %d bits", k.Bits)
			}
			if k.Locked || k.Device {
				d.state = "locked"
			}
			dots, oldest = append(dots, d), max(oldest, d.age)
			if _, known := at[d.kind]; !known {
				at[d.kind] = 0
				rows = append(rows, keyRow{kind: d.kind})
			}
		}
	}
	slices.SortFunc(rows, func(a, b keyRow) int { return cmp.Compare(a.kind, b.kind) })
	for i, row := range rows {
		at[row.kind] = i
	}
	for _, d := range dots {
		i := at[d.kind]
		rows[i].ages = append(rows[i].ages, d.age)
		if d.state == "open" {
			rows[i].open++
		}
		places[d.state] = append(places[d.state], [2]float64{d.age, float64(i)})
	}
	return rows, oldest, places
}
