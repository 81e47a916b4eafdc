package render

import (
	"strings"

	"github.com/aymanbagabas/go-udiff"

	"anchorage.example/unicrux/core/workstation"
	"anchorage.example/unicrux/render/document"
)

// Plan writes what a dry run would have changed: a sentence for each step, and the
// difference where a file changes.
func Plan(s Style, steps []workstation.Difference, tilde func(string) string) string {
	return s.plan("Would: ", steps, tilde)
}

// UndoPlan writes what an undo would take back, in the order in which it would.
func UndoPlan(s Style, steps []workstation.Difference, tilde func(string) string) string {
	return s.plan("Would take back: ", steps, tilde)
}

func (s Style) plan(lead string, steps []workstation.Difference, tilde func(string) string) string {
	if len(steps) == 0 {
		return s.Sentences("Nothing would change.")
	}
	var parts []string
	for _, step := range steps {
		text := s.Sentences(lead + step.Summary)
		switch {
		case step.Secret:
			text += margin + margin + s.paint(grey, tilde(step.Path)+" (a secret, not shown)") + "\n"
		case step.Path != "":
			text += s.difference(step, tilde(step.Path))
		}
		parts = append(parts, text)
	}
	return strings.Join(parts, "\n")
}

func (s Style) difference(step workstation.Difference, path string) string {
	from := path
	if step.Before == nil {
		from = "(no file)"
	}
	return s.unified(udiff.Unified(from, path, string(step.Before), string(step.After)))
}

// unified colours a difference, and sets it in.
func (s Style) unified(text string) string {
	var b strings.Builder
	for line := range strings.Lines(text) {
		text := strings.TrimSuffix(line, "\n")
		switch {
		case strings.HasPrefix(text, "+"):
			text = s.paint(teal, text)
		case strings.HasPrefix(text, "-"):
			text = s.paint(rose, text)
		default:
			text = s.paint(grey, text)
		}
		b.WriteString(margin + margin + text + "\n")
	}
	return b.String()
}

// PlanDocument makes the document of what a dry run would have changed.
func PlanDocument(steps []workstation.Difference) any {
	return document.Plan{Schema: document.Schema("plan"), Differences: document.Map(steps, differenceDoc)}
}

func differenceDoc(step workstation.Difference) document.Difference {
	d := document.Difference{Summary: step.Summary, Path: document.Text(document.Path(step.Path))}
	if step.Path != "" && !step.Secret {
		d.Difference = document.Text(udiff.Unified(step.Path, step.Path, string(step.Before), string(step.After)))
	}
	return d
}
