package render

import (
	"fmt"
	"strings"

	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/draft"
)

// Draft says what a draft has found, how sure it is, and what to do with it; out is the file that it is written to.
func Draft(s Style, r *draft.Result, out string) string {
	var rows [][]string
	for _, f := range r.Found {
		word := fmt.Sprintf("%.0f %%", 100*min(f.Sure, 0.99))
		if f.Doubted {
			word += ", a comment"
		}
		rows = append(rows, []string{f.Does, f.Request, word})
	}
	text := s.Sentences(fmt.Sprintf("Drafted a description of %s.", r.Host)) + "\n"
	if len(rows) > 0 {
		text += s.table([]string{"operation", "is probably", "sure"}, rows) + "\n"
	}
	if len(r.Missing) > 0 {
		var does []string
		for _, name := range r.Missing {
			does = append(does, describe.Operations[name].Does)
		}
		text += s.Sentences(
			"On the host's web page, because the document does not say how: "+strings.Join(does, ", ")+".",
		) + "\n"
	}
	if out == "" {
		return text
	}
	return text + s.Sentences("Look through it, then add it and try it:") +
		CommandLine(s, "unicrux", "host", "add", out) + CommandLine(s, "unicrux", "host", "test", r.Name)
}

type draftOperation struct {
	Name       string  `json:"name"`
	Request    string  `json:"request"`
	Likelihood float64 `json:"likelihood"`
	Used       bool    `json:"used"`
}

// DraftDocument makes the document "unicrux.draft/1".
func DraftDocument(r *draft.Result, file string, change int) any {
	operations := []draftOperation{}
	for _, f := range r.Found {
		operations = append(operations, draftOperation{f.Does, f.Request, min(f.Sure, 0.99), !f.Doubted})
	}
	return struct {
		Schema     string           `json:"schema"`
		Name       string           `json:"name"`
		Host       string           `json:"host"`
		Operations []draftOperation `json:"operations"`
		Missing    []string         `json:"missing"`
		Text       string           `json:"text"`
		File       *string          `json:"file"`
		Change     int              `json:"change,omitempty"`
	}{"unicrux.draft/1", r.Name, r.Host, operations, append([]string{}, r.Missing...), r.Text, optional(file), change}
}
