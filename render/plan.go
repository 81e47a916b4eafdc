package render

import (
	"strings"

	"github.com/aymanbagabas/go-udiff"

	"anchorage.example/unicrux/core/workstation"
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

// PlanDocument makes the document "unicrux.plan/1".
func PlanDocument(steps []workstation.Difference) any {
	type change struct {
		Summary    string  `json:"summary"`
		Path       *string `json:"path"`
		Difference *string `json:"difference"`
	}
	list := []change{}
	for _, step := range steps {
		c := change{Summary: step.Summary, Path: optional(step.Path)}
		if step.Path != "" && !step.Secret {
			c.Difference = optional(udiff.Unified(step.Path, step.Path, string(step.Before), string(step.After)))
		}
		list = append(list, c)
	}
	return struct {
		Schema  string   `json:"schema"`
		Changes []change `json:"changes"`
	}{"unicrux.plan/1", list}
}
