package render

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"

	"anchorage.example/unicrux/core/causes"
	"anchorage.example/unicrux/core/diagnose/finding"
	"anchorage.example/unicrux/render/document"
)

// Reading tells what an error text says, and what it does not.
func Reading(s Style, r causes.Reading) string {
	switch {
	case len(r.Causes) == 0:
		return s.Sentences("Nothing in this text is known to Unicrux, so it cannot tell what it means.",
			"Ask about the way itself, which is tried then and not read:") + CommandLine(s, "unicrux", "check",
			cmp.Or(r.Where(), "URL"))
	case r.Conclusive:
		return s.conclusive(r.Causes[0])
	}
	var b strings.Builder
	b.WriteString(s.Sentences("The text alone cannot tell. These may be it, the likeliest first."))
	commands := map[string]bool{}
	var rows []row
	for _, cause := range r.Causes {
		b.WriteString("\n" + s.cause(cause))
		for _, command := range commandsIn(cause.Confirm) {
			if !commands[command] {
				commands[command] = true
				rows = append(rows, row{lines: []string{s.paint(bold, command)}})
			}
		}
	}
	if len(rows) > 0 {
		b.WriteString("\n" + s.block(labelColumn,
			append([]row{{label: "tell", tone: teal, text: "To find out which, check the way:"}}, rows...)))
	}
	return b.String()
}

// conclusive is the case where the text tells by itself.
func (s Style) conclusive(c causes.Cause) string {
	var b strings.Builder
	label, tone := "crux", rose
	if c.Code == causes.NoShell { // it only looks like a failure
		label, tone = "well", teal
	}
	b.WriteString(s.block(labelColumn,
		[]row{{label: label, tone: tone, text: strings.TrimSpace(c.Summary + " " + beyond(c))}}))
	b.WriteString("\n" + s.labelled([]labelled{{label: "the text says", text: "“" + c.Line + "”"}}, 0))
	b.WriteString(s.mends(mendsOf(c)))
	if rows := s.confirm(c); len(rows) > 0 {
		b.WriteString("\n" + s.block(labelColumn, rows))
	}
	return b.String()
}

func beyond(c causes.Cause) string {
	if causes.StageOf(c.Code) == causes.Beyond {
		return "This is not a matter of signing in."
	}
	return ""
}

// cause is one of several.
func (s Style) cause(c causes.Cause) string {
	share := fmt.Sprintf("%d%%", int(math.Round(c.Likelihood*100)))
	rows := []row{{label: share, tone: ochre, text: strings.TrimSpace(c.Summary + " " + beyond(c))}}
	for _, text := range c.Confirm {
		if !isCommand(text) {
			rows = append(rows, row{text: text, quiet: true})
		}
	}
	for _, mend := range mendsOf(c) {
		rows = append(rows, row{label: "mend", tone: grey, text: mend.Summary, quiet: true})
	}
	return s.block(labelColumn, rows)
}

// mendsOf is what the catalogue says to do about a cause, as a list of one; of none where it says nothing.
func mendsOf(c causes.Cause) []finding.Mend {
	if c.Mend == "" {
		return nil
	}
	return []finding.Mend{{Summary: c.Mend, By: c.By}}
}

func isCommand(text string) bool { return strings.HasPrefix(text, "unicrux ") }

func commandsIn(texts []string) []string {
	return slices.DeleteFunc(slices.Clone(texts), func(text string) bool { return !isCommand(text) })
}

func (s Style) confirm(c causes.Cause) []row {
	var rows []row
	label := "tell"
	for _, text := range c.Confirm {
		r := row{label: label, tone: teal, text: text}
		if isCommand(text) {
			r.text, r.lines = "", []string{s.paint(bold, text)}
		}
		rows, label = append(rows, r), ""
	}
	return rows
}

// About tells what a code means.
func About(s Style, a causes.About) string {
	rows := []row{{label: "code", tone: rose, text: a.Code.String() + "  " + whereOf(a.Stage)},
		{label: "is", tone: grey, text: a.Summary}}
	if a.Notice != "" {
		rows = append(rows, row{label: "note", tone: ochre, text: "Where it does not stop the way: " + a.Notice})
	}
	for i, look := range a.Looks {
		looks := row{text: "“" + look + "”", quiet: true}
		if i == 0 {
			looks.label, looks.tone = "seen", grey
		}
		rows = append(rows, looks)
	}
	if a.Mend != "" {
		rows = append(rows, row{label: "mend", tone: teal, text: a.Mend},
			row{text: menders[a.By] + " can do it.", quiet: true})
	}
	if a.Tell != "" {
		rows = append(rows, row{label: "tell", tone: teal, text: a.Tell})
	}
	return s.block(labelColumn, rows)
}

var menders = map[causes.By]string{causes.You: "You", causes.Host: "Whoever runs the host",
	causes.Administrator: "An administrator, or the owner of the repository,"}

// whereOf is where a code stops the way, in words.
func whereOf(stage causes.StageName) string {
	switch stage {
	case "":
		return "(a note; it stops nothing)"
	case causes.Beyond:
		return "(no matter of the way to the host)"
	}
	return "(at the stage " + string(stage) + ")"
}

// AboutDocument makes the document of a code that was explained: certain, since it was named.
func AboutDocument(a causes.About) any {
	return document.Explain{Schema: document.Schema("explain"), Conclusive: true, Causes: []document.Cause{{
		Code: a.Code.String(), Likelihood: 1, Summary: a.Summary, Stage: string(a.Stage),
		Confirm: slices.DeleteFunc([]string{a.Tell}, func(text string) bool { return text == "" }),
		Mends:   document.Map(mendsOf(causes.Cause{Mend: a.Mend, By: a.By}), mendDoc)}}}
}

// ReadingDocument makes the document of a text that was explained.
func ReadingDocument(r causes.Reading) any {
	return document.Explain{Schema: document.Schema("explain"), Conclusive: r.Conclusive,
		Causes: document.Map(r.Causes, func(c causes.Cause) document.Cause {
			return document.Cause{Code: c.Code.String(), Likelihood: math.Round(c.Likelihood*100) / 100,
				Summary: c.Summary, Stage: string(causes.StageOf(c.Code)), Quote: c.Line,
				Confirm: document.List(c.Confirm), Mends: document.Map(mendsOf(c), mendDoc)}
		})}
}
