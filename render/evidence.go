package render

import (
	"strings"

	"anchorage.example/unicrux/core/diagnose/finding"
	"anchorage.example/unicrux/core/diagnose/seen"
)

// labels are the words for what was seen, where its name alone would not do.
var labels = map[seen.Name]string{
	seen.URL: "URL", seen.HostBlock: "Host block", seen.PushDefault: "push.default",
	seen.AskedWithOptions: "asked with -G", seen.AtTheHost: "on the host", seen.TheFolder: "folder",
	seen.ByThemselves: "jump hosts", seen.Given: "given URL", seen.There: "new URL", seen.ThereAre: "there are",
	seen.ItIsFor: "used for", seen.Wins: "overrides", seen.Loses: "overridden", seen.TheHostLeavesOut: "not sent",
	seen.TheTokenMay: "token allows", seen.TheTokenIs: "token belongs to", seen.TheAccountMay: "account may",
	seen.AtJumpHost: "jump host", seen.SSHReads: "ssh reads", seen.SSHSays: "ssh says", seen.HgSays: "hg says",
	seen.NotKnown: "not certain", seen.SudoWasRunBy: "sudo run by", seen.SSH: "ssh",
}

// label is the word for what was seen.
func label(name seen.Name) string {
	if words := labels[name]; words != "" {
		return words
	}
	return strings.ReplaceAll(string(name), "-", " ")
}

// sentence writes evidence as one line.
func sentence(e finding.Evidence) string {
	text := label(e.Name) + ": " + e.Text
	if e.Origin != "" {
		text += " (" + e.Origin + ")"
	}
	return text
}

// A labelled line is one of a block: a label, a text, and where that is from.
type labelled struct{ label, text, origin string }

// evidence writes what was seen: label, text, and in brackets where it is.
func (s Style) evidence(list []finding.Evidence) string {
	var lines []labelled
	for _, e := range list {
		lines = append(lines, labelled{label(e.Name), e.Text, e.Origin})
	}
	return s.labelled(lines, 0)
}

// labelled writes lines with a label column of at least a width. An origin is behind its text, or below it where the
// line has no room for both: what may be copied stays whole.
func (s Style) labelled(list []labelled, width int) string {
	for _, l := range list {
		width = max(width, columns(l.label))
	}
	indent := margin + strings.Repeat(" ", labelColumn+2)
	room := s.width() - len(indent) - width - 2
	var b strings.Builder
	for _, l := range list {
		lines := []string{l.text}
		if strings.Contains(l.text, " ") && columns(l.text) > room {
			lines = wrap(l.text, room)
		}
		if l.origin != "" {
			lines = s.withOrigin(lines, l.origin, room)
		}
		below := "\n" + indent + strings.Repeat(" ", width+2)
		b.WriteString(indent + s.paint(grey, pad(l.label, width)) + "  " + strings.Join(lines, below) + "\n")
	}
	return b.String()
}

// withOrigin adds to lines, in brackets, where they are from.
func (s Style) withOrigin(lines []string, origin string, room int) []string {
	origin = "(" + origin + ")"
	last := &lines[len(lines)-1]
	if columns(*last)+1+columns(origin) > room {
		return append(lines, s.paint(grey, origin))
	}
	*last += " " + s.paint(grey, origin)
	return lines
}
