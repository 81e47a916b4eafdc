package render

import (
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"anchorage.example/unicrux/core/causes"
	"anchorage.example/unicrux/core/diagnose/finding"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/ready"
	"anchorage.example/unicrux/core/workstation"
	"anchorage.example/unicrux/render/document"
)

// Changes writes the record, newest first: what was changed, and by which steps.
func Changes(s Style, all []workstation.Change, tilde func(string) string, now time.Time) string {
	if len(all) == 0 {
		return s.Sentences("Nothing was changed yet.")
	}
	var parts []string
	for i := len(all) - 1; i >= 0; i-- {
		change := all[i]
		if change.Unread != nil {
			change.Summary = unreadWords(change)
		}
		words := change.When.Local().Format("2006-01-02 15:04") + "  " + change.Summary
		tint := plain
		if change.Undone != nil {
			words, tint = words+" Taken back "+age(*change.Undone, now)+".", grey
		}
		parts = append(parts, s.hanging(fmt.Sprintf("%3d  ", change.ID), words, tint))
		for _, step := range change.Steps {
			parts = append(parts, s.hanging("     ", stepWords(step, tilde), grey))
		}
	}
	return strings.Join(parts, "") + "\n" + s.Sentences("To take one back:") + CommandLine(s, "unicrux",
		"undo", "NUMBER")
}

// unreadWords says of a change that its record cannot be read.
func unreadWords(change workstation.Change) string {
	return "Its record cannot be read, so it cannot be taken back: " + change.Unread.Error() + "."
}

// hanging writes wrapped text behind a lead, its further lines below its first.
func (s Style) hanging(lead, text string, t tone) string {
	var b strings.Builder
	for i, line := range wrap(text, s.width()-len(margin)-columns(lead)) {
		if i > 0 {
			lead = strings.Repeat(" ", columns(lead))
		}
		b.WriteString(margin + s.paint(t, lead+line) + "\n")
	}
	return b.String()
}

func stepWords(step workstation.Step, tilde func(string) string) string {
	words := step.Summary
	if step.File != nil {
		words = strings.TrimSuffix(words, ".") + ": " + tilde(step.File.Path)
	}
	if !step.Done {
		words += " (cut short; not known whether it happened)"
	}
	return words
}

func changeDoc(change workstation.Change) document.Change {
	d := document.Change{Change: change.ID, When: document.Time(change.When), Summary: change.Summary,
		Steps: []document.ChangeStep{}}
	if change.Unread != nil {
		d.Summary = unreadWords(change)
	}
	if change.Undone != nil {
		d.Undone = document.Time(*change.Undone)
	}
	for _, step := range change.Steps {
		made := document.ChangeStep{Summary: step.Summary, Done: step.Done}
		if step.File != nil {
			made.Path = document.Text(document.Path(step.File.Path))
		}
		if step.Host != nil {
			made.Host = document.Text(step.Host.Host)
		}
		d.Steps = append(d.Steps, made)
	}
	return d
}

// ChangesDocument makes the document of the record, the oldest change first.
func ChangesDocument(all []workstation.Change) any {
	return document.Changes{Schema: document.Schema("changes"), Changes: document.Map(all, changeDoc)}
}

// Undone writes what was taken back.
func Undone(s Style, u *workstation.Undone, tilde func(string) string) string {
	words, repositories := "Taken back: change %d. %s", created(u.Change)
	switch len(repositories) {
	case 0:
	case len(u.Change.Steps):
		words = "Change %d stays, and is no longer listed. %s"
	default:
		words = "Partly taken back: change %d. %s"
	}
	text := s.Sentences(fmt.Sprintf(words, u.Change.ID, u.Change.Summary))
	for _, step := range repositories {
		text += s.Sentences(step.Host + " keeps the repository " + step.Data["repo"] +
			": delete it on the host's web page if nobody needs it.")
	}
	for _, step := range u.Change.Steps {
		if step.File != nil && step.File.Aside != "" && !strings.HasSuffix(step.File.Path, ".pub") {
			text += s.Sentences("What cannot be brought back: agents that held "+filepath.Base(step.File.Path)+
				" unlocked. Load it again:") +
				CommandLine(s, "unicrux", "key", "load", tilde(step.File.Path))
		}
	}
	for _, path := range u.SetAside {
		text += s.Sentences("The private key was set aside and not deleted:") + margin + tilde(path) + "\n"
	}
	return text
}

// created are the repositories that a host has created for a change. They stay: what was pushed to them is not ours to
// delete.
func created(c workstation.Change) []*workstation.HostStep {
	var list []*workstation.HostStep
	for _, step := range c.Steps {
		if step.Host != nil && step.Host.Act == hosts.ActRepo {
			list = append(list, step.Host)
		}
	}
	return list
}

// UndoneAllDocument makes the document of several changes: those that were taken back, and those that could not be.
func UndoneAllDocument(done, passed []int) any {
	return document.UndoAll{Schema: document.Schema("undo-all"), ChangeNumbers: document.List(done),
		PassedOver: document.List(passed)}
}

// UndoneDocument makes the document of a change that was taken back.
func UndoneDocument(u *workstation.Undone) any {
	return document.Undo{Schema: document.Schema("undo"), Change: changeDoc(u.Change),
		SetAside: document.Map(u.SetAside, func(path string) document.Path { return document.Path(path) })}
}

// Conflict shows both versions of a file that stands in the way of an undo.
func Conflict(s Style, e *workstation.EditedError, path string) string {
	if len(e.Ours) == 0 {
		return ""
	}
	text := ""
	for _, h := range e.Ours {
		text += marked("-", h.Removed) + marked("+", h.Added)
	}
	return s.Sentences("The change made this edit in "+path+", and the file no longer has it:") + s.unified(text)
}

// marked puts a mark before each line.
func marked(mark string, text []byte) string {
	var b strings.Builder
	for line := range strings.Lines(string(text)) {
		b.WriteString(mark + strings.TrimRight(line, "\r\n") + "\n")
	}
	return b.String()
}

// ReadyPlan writes what is going to be done, before it is.
func ReadyPlan(s Style, way *finding.Way, plan []ready.Foreseen, clone string) string {
	var b strings.Builder
	b.WriteString(s.Sentences(planHead(way)...) + "\n")
	n := 0
	item := func(words string, changes []string) {
		n++
		r := row{label: fmt.Sprint(n), tone: grey, text: words}
		b.WriteString(s.block(1, []row{r}))
		for _, change := range changes {
			b.WriteString(s.block(1, []row{{text: "changes " + change, quiet: true}}))
		}
	}
	for _, step := range plan {
		item(step.Summary, step.Changes)
	}
	if clone != "" {
		item("Clone into "+clone+".", nil)
	}
	return b.String() + "\n"
}

func planHead(way *finding.Way) []string {
	if way.IsOpen() {
		return []string{"The way to " + goal(way) + " is open. What is left to do:"}
	}
	return []string{"The way to " + goal(way) + " is not open yet. " + way.Crux.Summary, "What I am going to do:"}
}

func goal(way *finding.Way) string {
	if way.Question.Repo == "" {
		return way.Question.Host
	}
	return way.Question.Repo + " at " + way.Question.Host
}

// ReadyStep tells one step that was taken.
func ReadyStep(s Style, step ready.Step) string {
	label := "done"
	if step.Change != 0 {
		label = fmt.Sprintf("change %d", step.Change)
	}
	return s.block(9, []row{{label: label, tone: teal, text: step.Summary}})
}

// ReadyDocument makes the document of an opening.
func ReadyDocument(o *ready.Opening, plan []ready.Foreseen, folder string, cloned bool) any {
	return document.Ready{Schema: document.Schema("ready"), Open: o.Way.IsOpen(), Cloned: cloned,
		Folder: document.Text(document.Path(folder)), Check: wayDoc(o.Way),
		Plan: document.Map(plan, func(step ready.Foreseen) document.PlannedStep {
			return document.PlannedStep{Summary: step.Summary, Effects: document.List(step.Changes)}
		}),
		Steps: document.Map(o.Steps, func(step ready.Step) document.ReadyStep {
			return document.ReadyStep{Code: step.Code.String(), Summary: step.Summary,
				Change: document.Number(step.Change)}
		})}
}

// Request writes what to ask of whom, in words that can be sent as they are.
func Request(s Style, way *finding.Way, mend finding.Mend) string {
	if mend.By == causes.You || way.Crux == nil {
		return ""
	}
	whom := map[causes.By]string{causes.Administrator: "the owner or administrator",
		causes.Host: "whoever runs the host"}[mend.By]
	lines := []string{fmt.Sprintf("I cannot %s %s. %s", way.Question.Purpose, goal(way), way.Crux.Summary)}
	for _, e := range way.Crux.Evidence {
		lines = append(lines, "- "+label(e.Name)+": "+e.Text)
	}
	return "\n" + s.Sentences("To send to "+whom+":") + "\n" + margin + margin + strings.Join(lines,
		"\n"+margin+margin) + "\n"
}

// Stopped is what a loop of mends says when somebody else is needed.
func Stopped(s Style, way *finding.Way) string {
	if way.IsOpen() || len(way.Mends) == 0 {
		return ""
	}
	return Request(s, way, way.Mends[0])
}

// DoneDocument makes the document of a command that has nothing else to show; change is 0 when nothing was changed,
// until is when it ends by itself.
func DoneDocument(summary string, change int, until time.Time) any {
	return document.Done{Schema: document.Schema("done"), Summary: summary, Change: document.Number(change),
		Until: document.Time(until)}
}
