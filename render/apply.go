package render

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"anchorage.example/unicrux/core/apply"
	"anchorage.example/unicrux/core/declared"
	"anchorage.example/unicrux/core/untrusted"
	"anchorage.example/unicrux/core/workstation"
	"anchorage.example/unicrux/render/document"
)

// An Applied is what became of a state, for being shown.
type Applied struct {
	State       *declared.State
	Result      apply.Result
	Homes       []apply.HomeResult
	Differences []workstation.Difference // of a dry run
	Dry         bool
	Sudo        bool // it was run by somebody who became root
	Change      int
}

// Failed tells whether a home could not be settled.
func (a Applied) Failed() bool { return a.unsettled() > 0 }

func (a Applied) unsettled() int {
	n := 0
	for _, h := range a.Homes {
		if h.Why != "" {
			n++
		}
	}
	return n
}

// Moves tells whether anything was changed, or would be.
func (a Applied) Moves() bool {
	return a.movedHomes() > 0 || a.Result.Moves()
}

// movedHomes are those in which something was changed, or would be.
func (a Applied) movedHomes() int {
	n := 0
	for _, h := range a.Homes {
		if len(h.Done) > 0 {
			n++
		}
	}
	return n
}

// StateName is what a state is called.
func StateName(s *declared.State) string {
	return strings.TrimSpace(strings.TrimSpace("the state "+s.Fleet) + " " + s.Version)
}

// summary says in a sentence what became of it.
func (a Applied) summary() string {
	counts := map[apply.Status]int{}
	for _, t := range a.Result.Things {
		if !t.IsNote() {
			counts[t.Status]++
		}
	}
	words := "This machine is as " + StateName(a.State) + " declares. Nothing " + map[bool]string{true: "would change.",
		false: "was changed."}[a.Dry]
	if a.Moves() {
		var moved []string
		if n := counts[apply.Changed] + counts[apply.WouldChange]; n > 0 {
			moved = append(moved, count(n, "file", "files"))
		}
		if n := a.movedHomes(); n > 0 {
			moved = append(moved, count(n, "home", "homes"))
		}
		if len(moved) == 0 {
			moved = append(moved, "only what Unicrux notes of it")
		}
		words = map[bool]string{true: "Would change", false: "Changed"}[a.Dry] + ", as " + StateName(a.State) +
			" declares: " + strings.Join(moved, ", ") + "."
	}
	if n := counts[apply.Overruled]; n > 0 {
		words += fmt.Sprintf(" %s not count, because other lines win over them.", capital(count(n, "setting does",
			"settings do")))
	}
	if n := a.unsettled(); n > 0 {
		words += fmt.Sprintf(" %s could not be settled.", capital(count(n, "home", "homes")))
	}
	return words
}

// outcomes are the words for the statuses.
var outcomes = map[apply.Status]string{apply.Changed: "changed", apply.WouldChange: "would change",
	apply.Overruled: "does not count", apply.Left: "left, edited since"}

// Apply writes what became of a state: in a dry run each difference, then what is to be known and the sum.
func Apply(s Style, a Applied) string {
	text := ""
	if a.Dry && len(a.Differences) > 0 {
		text = s.plan("Would: ", a.shown(), func(path string) string { return path }) + "\n"
	}
	var rows [][]string
	var reasons []string
	for _, t := range a.Result.Things {
		if words := outcomes[t.Status]; words != "" && !(a.Dry && t.Status == apply.WouldChange) {
			rows = append(rows, []string{words, t.Name, t.Path})
		}
		if t.Why != "" {
			reasons = append(reasons, fmt.Sprintf("%s does not count because of %s.", cmp.Or(t.Name, t.Path),
				placeOf(t)))
		}
	}
	for _, h := range a.Homes {
		status := map[bool]string{true: "would change", false: "changed"}[a.Dry]
		if h.Why != "" {
			status = "not settled"
			reasons = append(reasons, fmt.Sprintf("The home of %s was not settled: %s.", h.Home.Person, h.Why))
		}
		if h.Why != "" || len(h.Done) > 0 {
			rows = append(rows, []string{status, h.Home.Person, h.Home.Path})
		}
		for _, sentence := range h.Done {
			reasons = append(reasons, fmt.Sprintf("For %s: %s", h.Home.Person, sentence))
		}
	}
	if len(rows) > 0 {
		heads, rows := withoutEmpty([]string{"", "what", "where"}, rows)
		text += s.table(heads, rows) + "\n"
	}
	for _, reason := range reasons {
		text += s.Sentences(reason)
	}
	text += s.Sentences(a.summary())
	if a.Change > 0 {
		words := []string{"unicrux", "undo", fmt.Sprint(a.Change)}
		if a.Sudo {
			words = append([]string{"sudo"}, words...)
		}
		text += s.Sentences("To take it back:") + CommandLine(s, words...)
	}
	return text
}

// placeOf says which line wins over a thing.
func placeOf(t apply.Thing) string {
	if t.Line > 0 {
		return fmt.Sprintf("%s:%d", untrusted.Clean(t.Why), t.Line)
	}
	return untrusted.Clean(t.Why)
}

// mostOfNewFile is how many lines of a new file are shown: what is in it is in the state's own files.
const mostOfNewFile = 12

// shown are the differences, without those of our own notes; of new files only how they begin.
func (a Applied) shown() []workstation.Difference {
	var short []workstation.Difference
	for _, d := range a.Differences {
		if slices.ContainsFunc(a.Result.Things, func(t apply.Thing) bool { return t.Path == d.Path && t.IsNote() }) {
			continue
		}
		lines := strings.SplitAfter(string(d.After), "\n")
		if more := len(lines) - 1 - mostOfNewFile; d.Before == nil && more > 2 {
			d.After = []byte(strings.Join(lines[:mostOfNewFile], "") + fmt.Sprintf("… and %d more lines\n", more))
		}
		short = append(short, d)
	}
	return short
}

// ApplyDocument makes the document of a state that was applied, or would be.
func ApplyDocument(a Applied) any {
	return document.Apply{Schema: document.Schema("apply"), Changed: a.Moves(), Failed: a.Failed(),
		Message: a.summary(),
		Diffs: document.Map(a.Result.Diffs, func(d apply.Diff) document.ApplyDiff {
			return document.ApplyDiff{Before: string(d.Before), After: string(d.After), BeforeHeader: d.Path,
				AfterHeader: d.Path}
		}),
		Applied: &document.AppliedState{Fleet: a.State.Fleet, Version: a.State.Version, SHA256: a.State.Hash()},
		Things:  document.Map(a.Result.Things, applyThing), Homes: document.Map(a.Homes, applyHome),
		Change: document.Number(a.Change)}
}

// ApplyFailed makes the document of a state that could not be applied.
func ApplyFailed(message string) any {
	return document.Apply{Schema: document.Schema("apply"), Failed: true, Message: message,
		Diffs: []document.ApplyDiff{}, Things: []document.ApplyThing{}, Homes: []document.ApplyHome{}}
}

// AppliedDocument says which state was applied; nil for none.
func AppliedDocument(k declared.Kept) *document.AppliedState {
	if k.Hash == "" {
		return nil
	}
	return &document.AppliedState{Fleet: k.Fleet, Version: k.Version, SHA256: k.Hash}
}

func applyThing(t apply.Thing) document.ApplyThing {
	d := document.ApplyThing{Part: string(t.Part), Thing: document.Text(untrusted.Clean(t.Name)),
		Path: document.Path(t.Path), Outcome: string(t.Status), OverruledBy: document.Text(untrusted.Clean(t.Why))}
	if t.Line > 0 {
		d.Line = &t.Line
	}
	return d
}

func applyHome(h apply.HomeResult) document.ApplyHome {
	return document.ApplyHome{Person: h.Home.Person, Path: document.Path(h.Home.Path), Done: document.List(h.Done),
		Change: document.Number(h.Change), Why: document.Text(h.Why)}
}
