package gitlink

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
)

// A draft collects what is to become of the text of one of git's files.
type draft struct {
	old     []byte
	at      syntax
	entries []Entry             // what git reads there, one for each variable
	places  map[string][]int    // of the entries, by key
	last    map[string]int      // of the sections, by name
	meant   map[string][]string // the values of what is changed, by key
	edits   []edit
	gone    map[int]int // how many variables of a section are taken out
	added   []addition
	newLine string
}

// An edit puts a text in the place of what is there.
type edit struct {
	from, to int
	text     string
}

// An addition is a section behind everything.
type addition struct {
	section string
	lines   []string
}

func newDraft(old []byte, at syntax, entries []Entry) *draft {
	d := &draft{old: old, at: at, entries: entries, places: map[string][]int{}, last: map[string]int{},
		meant: map[string][]string{}, gone: map[int]int{}, newLine: "\n"}
	for i, entry := range entries {
		d.places[entry.Key] = append(d.places[entry.Key], i)
	}
	for i, s := range at.sections {
		d.last[s.name] = i
	}
	if i := bytes.IndexByte(old, '\n'); i > 0 && old[i-1] == '\r' {
		d.newLine = "\r\n"
	}
	return d
}

// lists tells whether git lists the same variables.
func (s syntax) lists(entries []Entry) bool {
	return slices.EqualFunc(s.variables, entries, func(v variable, e Entry) bool { return v.key == e.Key })
}

// assign notes the edits that give a variable its values: where it has some, then behind the others of
// its section, or in a new one.
func (d *draft) assign(a Assignment) error {
	key := normalKey(a.Key)
	places := d.places[key]
	have := make([]string, len(places))
	for i, place := range places {
		have[i] = d.entries[place].Value
	}
	want := a.Values
	if a.Beside {
		want = slices.Concat(have, slices.DeleteFunc(slices.Clone(want),
			func(value string) bool { return slices.Contains(have, value) }))
	}
	if a.Without {
		want = slices.DeleteFunc(slices.Clone(have),
			func(value string) bool { return slices.Contains(a.Values, value) })
	}
	if meant, twice := d.meant[key]; twice && !slices.Equal(meant, want) {
		return fmt.Errorf("%w: %s twice", ErrUnwritable, key)
	} else if twice || slices.Equal(have, want) {
		return nil
	}
	if err := a.writable(have); err != nil {
		return err
	}
	d.meant[key] = want
	if gone, ok := without(have, want); ok { // the others stay where they are
		for _, i := range gone {
			d.takeOut(d.at.variables[places[i]])
		}
		return nil
	}
	for i, place := range places {
		switch v := d.at.variables[place]; {
		case i >= len(want):
			d.takeOut(v)
		case have[i] != want[i]:
			d.edits = append(d.edits, edit{v.named, v.to, " = " + quoted(want[i])})
		}
	}
	if len(want) > len(have) {
		d.add(a.Key, want[len(have):])
	}
	return nil
}

// without finds which values must go from a list so that the wanted ones are left, in their order.
func without(have, want []string) (gone []int, ok bool) {
	for i, value := range have {
		if len(want) > 0 && value == want[0] {
			want = want[1:]
		} else {
			gone = append(gone, i)
		}
	}
	return gone, len(want) == 0
}

// takeOut takes a variable out, with its lines when nothing else is on them.
func (d *draft) takeOut(v variable) {
	to := v.end
	from := d.lineStart(v.from)
	if from == v.from && from > 0 && d.old[from-1] != '\n' { // something else is on that line
		to -= len(endOf(d.old[:v.end]))
	}
	d.edits = append(d.edits, edit{from, to, ""})
	d.gone[v.section]++
}

// lineStart is where the line of a place begins, or the place itself where something is before it.
func (d *draft) lineStart(at int) int {
	start := bytes.LastIndexByte(d.old[:at], '\n') + 1
	if len(bytes.TrimSpace(d.old[start:at])) > 0 {
		return at
	}
	return start
}

// endOf is the line end that a text ends with.
func endOf(text []byte) string {
	switch {
	case bytes.HasSuffix(text, []byte("\r\n")):
		return "\r\n"
	case bytes.HasSuffix(text, []byte("\n")):
		return "\n"
	}
	return ""
}

// add adds values of a variable: to the last section of its name, or behind everything.
func (d *draft) add(key string, values []string) {
	dot := strings.LastIndexByte(key, '.')
	var lines []string
	for _, value := range values {
		lines = append(lines, "\t"+key[dot+1:]+" = "+quoted(value))
	}
	name := strings.TrimSuffix(normalKey(key[:dot]+".x"), ".x")
	// What includes another file comes last: what is set there is read then, and an empty value in it
	// clears what is before ("credential.helper" in git-config(1)).
	if i, found := d.last[name]; found && (name != "include" || i == len(d.at.sections)-1) {
		d.addTo(i, lines)
		return
	}
	for j := range d.added {
		if d.added[j].section == name {
			d.added[j].lines = append(d.added[j].lines, lines...)
			return
		}
	}
	d.added = append(d.added, addition{name, lines})
}

func (d *draft) addTo(section int, lines []string) {
	at := d.at.sections[section].end
	text := strings.Join(lines, d.newLine) + d.newLine
	if endOf(d.old[:at]) == "" {
		text = d.newLine + text
	}
	d.edits = append(d.edits, edit{at, at, text})
	d.gone[section] -= len(d.at.variables) + 1 // so it does not get empty
}

func (d *draft) changes() bool { return len(d.meant) > 0 }

// text is what becomes of the text.
func (d *draft) text() []byte {
	for i, gone := range d.gone {
		// A section in which nothing is left goes too, unless a comment is in it.
		if i < 0 {
			continue
		}
		if s := d.at.sections[i]; gone == s.variables && !s.commented {
			d.edits = append(d.edits, edit{d.lineStart(s.from), s.end, ""})
		}
	}
	slices.SortStableFunc(d.edits, func(a, b edit) int { return a.from - b.from })
	var b bytes.Buffer
	done := 0
	for _, e := range d.edits {
		if e.from < done { // within a section that goes
			continue
		}
		b.Write(d.old[done:e.from])
		b.WriteString(e.text)
		done = e.to
	}
	b.Write(d.old[done:])
	for _, a := range d.added {
		if b.Len() > 0 && endOf(b.Bytes()) == "" {
			b.WriteString(d.newLine)
		}
		b.WriteString(headOf(a.section) + d.newLine + strings.Join(a.lines, d.newLine) + d.newLine)
	}
	return append([]byte{}, b.Bytes()...) // where nothing is left, an empty text and not none
}

// became tells whether git reads what was meant, and everything else as before.
func (d *draft) became(after []Entry) bool {
	now := map[string][]string{}
	for _, entry := range after {
		now[entry.Key] = append(now[entry.Key], entry.Value)
	}
	for key, want := range d.meant {
		if !slices.Equal(now[key], want) {
			return false
		}
	}
	others := func(entries []Entry) []Entry {
		return slices.DeleteFunc(slices.Clone(entries), func(e Entry) bool { _, ours := d.meant[e.Key]; return ours })
	}
	return slices.EqualFunc(others(d.entries), others(after),
		func(a, b Entry) bool { return a.Key == b.Key && a.Value == b.Value })
}

// headOf writes the head of a section.
func headOf(name string) string {
	first, sub, found := strings.Cut(name, ".")
	if !found {
		return "[" + first + "]"
	}
	return "[" + first + ` "` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(sub) + `"]`
}

// quoted writes a value so that git reads just that ("Values" in git-config(1)).
func quoted(value string) string {
	text := strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`, "\t", `\t`, "\b", `\b`).Replace(value)
	if strings.ContainsAny(value, ";#\r") || strings.TrimSpace(value) != value {
		return `"` + text + `"`
	}
	return text
}
