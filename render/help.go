package render

import (
	"strings"

	"anchorage.example/unicrux/render/document"
)

// A HelpPage is what there is to say of one command, or of a topic.
type HelpPage struct {
	Use      string // the line that calls it; empty for a topic
	About    string // paragraphs; lines that begin with a space stay as they are
	Examples []string
	Groups   []HelpGroup
	More     string // a sentence at the end
}

// A HelpGroup is a list under a head: of options, or of commands.
type HelpGroup struct {
	Head string
	Rows []HelpRow
}

// A HelpRow is an option or a command, and what it does.
type HelpRow struct{ Name, About string }

// widestName is from how many columns on a name of a row has a line of its own.
const widestName = 26

// Help writes a page.
func Help(s Style, p HelpPage) string {
	var b strings.Builder
	if p.Use != "" {
		b.WriteString("\n" + margin + s.paint(bold, p.Use) + "\n")
	}
	b.WriteString("\n" + s.paragraphs(p.About))
	if len(p.Examples) > 0 {
		b.WriteString("\n" + margin + s.paint(bold, "Example") + "\n")
		for _, line := range p.Examples {
			b.WriteString(margin + margin + line + "\n")
		}
	}
	width := 0
	for _, g := range p.Groups {
		for _, r := range g.Rows {
			if n := columns(r.Name); n <= widestName {
				width = max(width, n)
			}
		}
	}
	for _, g := range p.Groups {
		if len(g.Rows) > 0 {
			b.WriteString("\n" + margin + s.paint(bold, g.Head) + "\n" + s.helpRows(g.Rows, width))
		}
	}
	if p.More != "" {
		b.WriteString("\n" + s.Sentences(p.More))
	}
	return b.String()
}

func (s Style) helpRows(rows []HelpRow, width int) string {
	var b strings.Builder
	indent := margin + margin
	for _, r := range rows {
		lines := wrap(r.About, max(20, s.width()-len(indent)-width-2))
		first := pad(r.Name, width) + "  "
		if columns(r.Name) > width {
			b.WriteString(indent + r.Name + "\n")
			first = strings.Repeat(" ", width+2)
		}
		for i, line := range lines {
			if i > 0 {
				first = strings.Repeat(" ", width+2)
			}
			b.WriteString(strings.TrimRight(indent+first+line, " ") + "\n")
		}
		if len(lines) == 0 {
			b.WriteString(strings.TrimRight(indent+first, " ") + "\n")
		}
	}
	return b.String()
}

// paragraphs wraps text: an empty line ends a paragraph, and a line that begins with a space stays as it is.
func (s Style) paragraphs(text string) string {
	var b strings.Builder
	var words []string
	flush := func() {
		if len(words) > 0 {
			for _, line := range wrap(strings.Join(words, " "), s.width()-len(margin)) {
				b.WriteString(margin + line + "\n")
			}
		}
		words = nil
	}
	for line := range strings.Lines(text) {
		line = strings.TrimSuffix(line, "\n")
		switch {
		case line == "":
			flush()
			b.WriteString("\n")
		case strings.HasPrefix(line, " "):
			flush()
			b.WriteString(margin + strings.TrimPrefix(line, margin) + "\n")
		default:
			words = append(words, line)
		}
	}
	flush()
	return b.String()
}

// HelpDocument makes the document of a page.
func HelpDocument(p HelpPage) any {
	return document.Help{Schema: document.Schema("help"), Use: p.Use, About: p.About,
		Examples: document.List(p.Examples),
		Groups: document.Map(p.Groups, func(g HelpGroup) document.HelpGroup {
			return document.HelpGroup{Head: g.Head,
				Rows: document.Map(g.Rows, func(r HelpRow) document.HelpRow { return document.HelpRow(r) })}
		})}
}
