package render

import (
	"fmt"
	"strings"
	"time"

	"anchorage.example/unicrux/core/causes"
	"anchorage.example/unicrux/core/diagnose/finding"
)

// Way draws the line from the person to the repository, and where it breaks.
func Way(s Style, w *finding.Way) string {
	var b strings.Builder
	b.WriteString(s.question(w) + "\n")
	b.WriteString(s.line(w.Stages))
	if s.Detail {
		b.WriteString("\n" + s.facts(w.Stages))
	}
	b.WriteString("\n")
	if w.IsOpen() {
		b.WriteString(s.openSentence(w))
	} else {
		b.WriteString(s.crux(w.Crux))
		b.WriteString(s.mends(w.Mends))
	}
	b.WriteString(s.notes(w.Notes))
	return b.String()
}

// question says what was asked: the purpose, the repository, and how one gets there.
func (s Style) question(w *finding.Way) string {
	q := w.Question
	what := "?"
	switch {
	case q.Repo != "":
		what = q.Repo + " at " + q.Host
	case q.Host != "":
		what = "sign in at " + q.Host
	case q.Remote != "":
		what = "remote " + q.Remote
	case w.Crux != nil && w.Crux.Code == causes.URLMalformed:
		what = "the URL as given"
	case w.Crux != nil:
		what = "this folder"
	}
	purpose := string(q.Purpose)
	if q.Repo == "" && q.Host != "" {
		purpose = "check"
	}
	how := q.Transport
	if q.User != "" {
		how += ", as " + q.User
	}
	if w.Key != "" {
		how += ", with " + w.Key
	}
	left := margin + s.paint(bold, purpose) + "  " + what
	if columns(margin+purpose+"  "+what+"      "+how) > s.width() {
		return left + "\n" + margin + strings.Repeat(" ", len(purpose)+2) + s.paint(grey, how) + "\n"
	}
	return left + "      " + s.paint(grey, how) + "\n"
}

// line draws the stages. Links are drawn up to the break, and missing behind it.
func (s Style) line(stages []finding.Stage) string {
	link, cross := " == ", " X"
	if s.Lines {
		link, cross = " ══ ", " ╳"
	}
	var b strings.Builder
	at := len(margin)
	b.WriteString(margin)
	var shown []finding.Stage
	for _, stage := range stages {
		if stage.State != finding.Skipped {
			shown = append(shown, stage)
		}
	}
	for i, stage := range shown {
		name, gap, tone := string(stage.Name), "    ", grey
		switch stage.State {
		case finding.Open:
			gap, tone = link, teal
		case finding.Broken:
			name, gap, tone = name+cross, "  ", rose
		}
		width, turn := columns(name)+columns(gap), ""
		if i == len(shown)-1 {
			gap = ""
		} else if next := columns(string(shown[i+1].Name)) + 2; at+width+next > s.width() {
			gap, turn = strings.TrimRight(gap, " "), "\n"+margin
			at = len(margin) - width
		}
		b.WriteString(s.paint(tone, name) + s.paint(tone, gap) + turn)
		at += width
	}
	return strings.TrimRight(b.String(), " ") + "\n"
}

// InPlace says the crux in three lines, behind the words of the program that failed.
func InPlace(s Style, w *finding.Way) string {
	lines := []string{s.paint(rose, "crux") + "  " + w.Crux.Summary}
	if len(w.Crux.Evidence) > 0 {
		e := w.Crux.Evidence[0]
		lines = append(lines, "      "+sentence(e))
	}
	if len(w.Mends) > 0 {
		mend := w.Mends[0]
		text := mend.Summary
		if len(mend.Command) > 0 {
			text = Command(mend.Command)
		}
		lines = append(lines, s.paint(teal, "mend")+"  "+text)
	}
	return "\n" + margin + strings.Join(lines, "\n"+margin) + "\n\n"
}

func (s Style) openSentence(w *finding.Way) string {
	q := w.Question
	as := ""
	if w.Account != "" {
		as = " as " + w.Account
	}
	sentence := fmt.Sprintf("You can %s %s%s.", q.Purpose, q.Repo, as)
	if q.Purpose == finding.Push {
		sentence = fmt.Sprintf("You can push to %s%s.", q.Repo, as)
	}
	if q.Repo == "" {
		sentence = "You can sign in at " + q.Host + as + "."
	}
	if q.Repo != "" && w.Skips(causes.Permission) {
		sentence = fmt.Sprintf("You can read %s%s. Only a %[3]s shows whether you can %[3]s to it.", q.Repo,
			as, q.Purpose)
	}
	return margin + s.paint(teal, "Open.") + " " + strings.Join(wrap(sentence, s.width()-len(margin)-6),
		"\n"+margin) + "\n"
}

func (s Style) crux(crux *finding.Crux) string {
	summary := crux.Summary
	if crux.Certainty == finding.Likely {
		summary += " This is likely, not proved."
	}
	return s.block(labelColumn, []row{{label: "crux", tone: rose, text: summary}}) + "\n" + s.evidence(crux.Evidence)
}

// labelColumn is the width of "crux", "mend" and "note".
const labelColumn = 4

func (s Style) mends(mends []finding.Mend) string {
	var rows []row
	for i, mend := range mends {
		label := "mend"
		if i > 0 {
			label = "or"
		}
		r := row{label: label, tone: teal, text: mend.Summary}
		if len(mend.Command) > 0 {
			r.lines = []string{s.paint(bold, Command(mend.Command))}
		}
		rows = append(rows, r)
	}
	if len(rows) == 0 {
		return ""
	}
	return "\n" + s.block(labelColumn, rows)
}

func (s Style) notes(notes []finding.Note) string {
	var rows []row
	for _, note := range notes {
		rows = append(rows, row{label: "note", tone: ochre, text: note.Summary})
	}
	if len(rows) == 0 {
		return ""
	}
	return "\n" + s.block(labelColumn, rows)
}

// facts lists what was learned at each stage, with origins and times.
func (s Style) facts(stages []finding.Stage) string {
	labels := 0
	for _, stage := range stages {
		for _, fact := range stage.Facts {
			labels = max(labels, columns(fact.Name))
		}
	}
	var b strings.Builder
	for _, stage := range stages {
		if stage.State != finding.Open && stage.State != finding.Broken {
			continue
		}
		took := ""
		if stage.Took > 0 {
			took = fmt.Sprintf("  %.1f ms", float64(stage.Took)/float64(time.Millisecond))
		}
		b.WriteString(margin + s.paint(bold, string(stage.Name)) + s.paint(grey, took) + "\n")
		var lines []labelled
		for _, fact := range stage.Facts {
			lines = append(lines, labelled{fact.Name, fact.Value, fact.Origin})
		}
		b.WriteString(s.labelled(lines, labels))
	}
	return b.String()
}
