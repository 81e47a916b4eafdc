package render

import (
	"bytes"
	"encoding/json"

	"anchorage.example/unicrux/core/diagnose/finding"
	"anchorage.example/unicrux/core/workstation"
	"anchorage.example/unicrux/render/document"
)

// JSON writes a document: indented, with a line end, and nothing escaped that need not be.
func JSON(document any) string { return encoded(document, "  ") }

// Compact is [JSON] on one line: a file of many documents has one on each.
func Compact(document any) string { return encoded(document, "") }

func encoded(document any, indent string) string {
	var b bytes.Buffer
	encoder := json.NewEncoder(&b)
	encoder.SetEscapeHTML(false)
	encoder.SetIndent("", indent)
	if err := encoder.Encode(document); err != nil { // our documents hold nothing that JSON cannot
		panic(err)
	}
	return b.String()
}

// WayDocument makes the document of a way.
func WayDocument(w *finding.Way) any { return wayDoc(w) }

func wayDoc(w *finding.Way) document.Check {
	d := document.Check{Schema: document.Schema("check"), Open: w.IsOpen(), Account: document.Text(w.Account),
		Question: document.Question{URL: w.Question.URL, Remote: document.Text(w.Question.Remote),
			Transport: w.Question.Transport, Purpose: string(w.Question.Purpose)},
		Stages: document.Map(w.Stages, stageDoc), Mends: document.Map(w.Mends, mendDoc),
		Notes: document.Map(w.Notes, func(note finding.Note) document.Note {
			return document.Note{Code: note.Code.String(), Summary: note.Summary}
		})}
	if c := w.Crux; c != nil {
		d.Crux = &document.Crux{Code: c.Code.String(), Stage: string(c.Stage), Summary: c.Summary,
			Certainty: string(c.Certainty), Evidence: document.Map(c.Evidence, sentence),
			Seen: document.Map(c.Evidence, func(e finding.Evidence) document.Fact {
				return document.Fact{Name: string(e.Name), Value: e.Text, Origin: e.Origin}
			})}
	}
	return d
}

func stageDoc(s finding.Stage) document.Stage {
	return document.Stage{Name: string(s.Name), State: string(s.State), Milliseconds: document.Milliseconds(s.Took),
		Facts: document.Map(s.Facts, func(f finding.Fact) document.Fact { return document.Fact(f) })}
}

func mendDoc(m finding.Mend) document.Mend {
	return document.Mend{Summary: m.Summary, Command: document.List(m.Command), By: string(m.By),
		Automatic: m.Automatic}
}

// ErrorDocument makes the document of a failed command. code never changes its meaning; changes are
// what the command did before it failed.
func ErrorDocument(code, message, advice string, exit int, changes []workstation.Change) any {
	return document.Error{Schema: document.Schema("error"), Code: code, Message: message, Advice: advice, Exit: exit,
		ChangeNumbers: document.Map(changes, func(c workstation.Change) int { return c.ID })}
}
