package render

import (
	"fmt"
	"strings"

	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/draft"
	"anchorage.example/unicrux/render/document"
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

// DraftDocument makes the document of a draft.
func DraftDocument(r *draft.Result, file string, change int) any {
	return document.Draft{Schema: document.Schema("draft"), Name: r.Name, HostName: r.Host,
		Operations: document.Map(r.Found, func(f draft.Found) document.DraftOperation {
			return document.DraftOperation{Name: f.Does, Request: f.Request, Likelihood: min(f.Sure, 0.99),
				Used: !f.Doubted}
		}),
		Missing: document.List(r.Missing), Text: r.Text, Path: document.Text(document.Path(file)),
		Change: document.Number(change)}
}
