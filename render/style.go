package render

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"anchorage.example/unicrux/core/shellwords"
	"anchorage.example/unicrux/core/workstation"

	"github.com/mattn/go-runewidth"
)

// Widths in columns: what is used when the terminal does not tell, and the bounds.
const (
	DefaultWidth = 100
	maxWidth     = 100
	minWidth     = 40
)

// A Depth says how many colours the terminal shows.
type Depth int

// The depths. The zero value is safe everywhere; without colours a terminal may still show what is bold.
const (
	NoColour Depth = iota
	Monochrome
	Colours16
	Colours256
	TrueColour
)

// A Style says what the terminal can show. The zero value is plain text of the default width.
type Style struct {
	Depth  Depth
	Lines  bool // drawing characters
	Width  int  // columns; 0 for the default
	Detail bool // show the facts of every stage
}

// A tone is a meaning that has a colour. Words and shapes tell it first.
type tone struct{ rgb, c256, c16 string }

// Nobody can ask a terminal for its background, so each colour is as far from white as from black.
var (
	teal  = tone{"38;2;37;131;120", "38;5;29", "36"}   // open
	ochre = tone{"38;2;156;108;21", "38;5;130", "33"}  // careful
	rose  = tone{"38;2;210;63;81", "38;5;131", "91"}   // broken
	grey  = tone{"38;2;104;119;133", "38;5;243", "90"} // not reached, and what matters less
	plain = tone{}
	bold  = tone{"1", "1", "1"}
)

func (s Style) paint(t tone, text string) string {
	code := ""
	switch s.Depth {
	case Monochrome:
		if t == bold {
			code = t.c16
		}
	case Colours16:
		code = t.c16
	case Colours256:
		code = t.c256
	case TrueColour:
		code = t.rgb
	}
	if code == "" || text == "" {
		return text
	}
	return "\x1b[" + code + "m" + text + "\x1b[0m"
}

func (s Style) width() int {
	if s.Width == 0 {
		return DefaultWidth
	}
	return max(minWidth, min(s.Width, maxWidth))
}

// tableWidth is how wide a table may be: as the terminal is, and without a bound where there is none.
func (s Style) tableWidth() int {
	if s.Width == 0 {
		return math.MaxInt
	}
	return max(minWidth, s.Width)
}

// columns is how many columns text takes; text has no colours in it yet.
func columns(text string) int { return runewidth.StringWidth(text) }

// pad fills text with spaces up to a width.
func pad(text string, width int) string {
	return text + strings.Repeat(" ", max(0, width-columns(text)))
}

// wrap breaks words into lines of at most width columns; a longer word stands alone, whole.
func wrap(text string, width int) []string {
	var lines []string
	line := ""
	for word := range strings.FieldsSeq(text) {
		if line != "" && columns(line)+1+columns(word) > width {
			lines, line = append(lines, line), ""
		}
		line = strings.TrimPrefix(line+" "+word, " ")
	}
	return append(lines, line)
}

// margin stands left of everything.
const margin = "  "

// A row is a label with what it labels: text that may be wrapped, or lines that may not.
type row struct {
	label string
	tone  tone
	text  string   // wrapped
	lines []string // as they are
	quiet bool     // the text matters less
}

// block writes rows with their labels in one column.
func (s Style) block(labelWidth int, rows []row) string {
	var b strings.Builder
	for _, r := range rows {
		lines := r.lines
		if r.text != "" {
			wrapped := wrap(r.text, s.width()-len(margin)-labelWidth-2)
			for i := range wrapped {
				if r.quiet {
					wrapped[i] = s.paint(grey, wrapped[i])
				}
			}
			lines = append(wrapped, lines...)
		}
		label := s.paint(r.tone, r.label) + strings.Repeat(" ", max(0, labelWidth-columns(r.label)))
		for i, line := range lines {
			if i > 0 {
				label = strings.Repeat(" ", labelWidth)
			}
			b.WriteString(strings.TrimRight(margin+label+"  "+line, " ") + "\n")
		}
	}
	return b.String()
}

// table writes rows under bold heads, two spaces between columns. Nothing in it is cut.
func (s Style) table(heads []string, rows [][]string) string {
	lines, fits := s.tableLines(heads, rows)
	if !fits {
		return s.stacked(heads, rows)
	}
	return strings.Join(lines, "")
}

// tableWithout is a table that leaves out columns, the first named first, as long as the terminal is
// too narrow for it.
func (s Style) tableWithout(heads []string, rows [][]string, least ...string) string {
	if lines, fits := s.fitting(heads, rows, least...); fits {
		return strings.Join(lines, "")
	}
	return s.stacked(heads, rows)
}

// fitting makes the lines of a table, the heads first, without as many of the columns that matter least as the terminal
// is too narrow for; fits is false when that does not help.
func (s Style) fitting(heads []string, rows [][]string, least ...string) (lines []string, fits bool) {
	for _, head := range least {
		if lines, fits = s.tableLines(heads, rows); fits {
			return lines, true
		}
		i := slices.Index(heads, head)
		all := append([][]string{heads}, rows...)
		for n, cells := range all {
			all[n] = slices.Delete(slices.Clone(cells), i, i+1)
		}
		heads, rows = all[0], all[1:]
	}
	return s.tableLines(heads, rows)
}

// tableLines makes the lines of a table, the heads first; fits is false when the terminal
// is too narrow for them.
func (s Style) tableLines(heads []string, rows [][]string) (lines []string, fits bool) {
	widths := make([]int, len(heads))
	all := append([][]string{heads}, rows...)
	for _, cells := range all {
		for i, cell := range cells {
			widths[i] = max(widths[i], columns(cell))
		}
	}
	total := len(margin) - 2
	for _, width := range widths {
		total += width + 2
	}
	for n, cells := range all {
		line := margin
		for i, cell := range cells {
			padded := pad(cell, widths[i])
			if n == 0 {
				padded = s.paint(bold, cell) + strings.Repeat(" ", widths[i]-columns(cell))
			}
			line += padded + "  "
		}
		lines = append(lines, strings.TrimRight(line, " ")+"\n")
	}
	return lines, total <= s.tableWidth()
}

// stacked writes a table that is too wide for the terminal: each row as a block.
func (s Style) stacked(heads []string, rows [][]string) string {
	labelWidth := 0
	for _, head := range heads {
		labelWidth = max(labelWidth, columns(head))
	}
	var parts []string
	for _, cells := range rows {
		var block []row
		for i, cell := range cells {
			if cell != "" {
				block = append(block, row{label: heads[i], tone: grey, lines: []string{cell}})
			}
		}
		parts = append(parts, s.block(labelWidth, block))
	}
	return strings.Join(parts, "\n")
}

// count writes a number with its noun.
func count(n int, one, many string) string {
	switch n {
	case 0:
		return "no " + one
	case 1:
		return "1 " + one
	}
	return strconv.Itoa(n) + " " + many
}

// Command writes a command as it is to be typed, quoted for the shell where needed. A "~/"
// at the beginning of a word is the home folder, as the shell has it.
func Command(words []string) string { return shellwords.Typed(words) }

// Sentences writes lines of prose at the margin, wrapped.
func (s Style) Sentences(texts ...string) string {
	var b strings.Builder
	for _, text := range texts {
		for _, line := range wrap(text, s.width()-len(margin)) {
			fmt.Fprintf(&b, "%s%s\n", margin, line)
		}
	}
	return b.String()
}

// CommandLine writes a command to be typed, on a line of its own, never broken.
func CommandLine(s Style, words ...string) string {
	return margin + s.paint(bold, Command(words)) + "\n"
}

// Careful writes warnings below a result.
func Careful(s Style, texts []string) string {
	if len(texts) == 0 {
		return ""
	}
	var rows []row
	for _, text := range texts {
		rows = append(rows, row{label: "careful", tone: ochre, text: text})
	}
	return "\n" + s.block(7, rows)
}

// Problem writes why a command failed and what to do about it. Where no terminal shows it,
// nothing is wrapped: logs are searched by line.
func Problem(s Style, message, advice string) string {
	const lead = "Not done:"
	width := s.width() - len(margin) - len(lead) - 1
	if s.Width == 0 {
		width = len(message) + 1
	}
	if message = strings.TrimRight(message, "."); !strings.HasSuffix(message, "?") {
		message += "."
	}
	text := margin + s.paint(rose, lead) + " " + strings.Join(wrap(message, width), "\n"+margin) + "\n"
	if advice != "" {
		text += s.Sentences(advice)
	}
	return text
}

// DoneBefore says what a command did before it failed, and how that is taken back.
func DoneBefore(s Style, changes []workstation.Change) string {
	text := ""
	for _, change := range changes {
		var steps []string
		for _, step := range change.Steps {
			words := step.Summary
			if !step.Done && step.Host != nil {
				words = strings.TrimSuffix(words, ".") + " (it is not known whether that happened)."
			}
			steps = append(steps, words)
		}
		const most = 6
		if len(steps) > most {
			steps = append(steps[:most-1], fmt.Sprintf("And %d more steps.", len(steps)-most+1))
		}
		text += s.Sentences("Done before that: "+strings.Join(steps,
			" ")) + s.Sentences("Run the same command again to go on. To take back what was done:") + CommandLine(s,
			"unicrux", "undo", strconv.Itoa(change.ID))
	}
	return text
}
