package causes

import (
	"cmp"
	"regexp/syntax"
	"slices"
	"strings"
)

// About is what the catalogue says about a code, for somebody who meets it for the first time.
type About struct {
	Code    Code
	Stage   StageName // where it stops the way; empty for what stops nobody
	Summary string    // one sentence
	Notice  string    // what it means where it does not stop the way; empty where it always does
	Mend    string    // what to do; HOST, REPO, ACCOUNT and URL stand for those of the question
	By      By        // who can do it
	Looks   []string  // how programs print it, what varies as "…", the clearest first; at most three
	Tell    string    // what tells it from its rivals; empty where nothing has to
}

// AboutOf returns what is known about a code.
func AboutOf(code Code) About {
	entry, at := find(code)
	about := About{Code: code, Stage: entry.stage, Summary: entry.summary, Mend: entry.mend, By: entry.by,
		Tell: entry.signs.tell, Looks: entry.signs.looks()}
	for _, note := range notes {
		if note.code == code {
			about.Notice = note.summary
		}
	}
	if at < 0 {
		about.Summary, about.Notice = about.Notice, ""
	}
	return about
}

// AllCodes lists every code there is: those that stop the way, in its order, then the others.
func AllCodes() []Code {
	codes := Codes()
	for _, note := range notes {
		if !slices.Contains(codes, note.code) {
			codes = append(codes, note.code)
		}
	}
	return codes
}

// Bounds of what is worth showing of a cause's signs.
const (
	telling   = 0.4 // the least weight
	maxLooks  = 3
	shortLook = 8 // characters; what is shorter tells a reader nothing
)

// looks are the clearest signs as a person would meet them.
func (s signs) looks() (list []string) {
	shown := slices.Clone(s.shown)
	slices.SortStableFunc(shown, func(a, b sign) int { return cmp.Compare(b.weight, a.weight) })
	for _, sign := range shown {
		if sign.weight >= telling && len(list) < maxLooks {
			if look := lookOf(sign.form); len(look) >= shortLook && !slices.Contains(list, look) {
				list = append(list, look)
			}
		}
	}
	return list
}

// gap stands for what varies.
const gap = "…"

// lookOf is a text that a form takes: of several ways the first, and a gap for what may be anything.
func lookOf(form string) string {
	tree, err := syntax.Parse(form, syntax.Perl)
	if err != nil {
		return ""
	}
	text := look(tree)
	for strings.Contains(text, gap+gap) {
		text = strings.ReplaceAll(text, gap+gap, gap)
	}
	return strings.TrimSpace(strings.Trim(text, gap+" "))
}

func look(tree *syntax.Regexp) string {
	switch tree.Op {
	case syntax.OpLiteral:
		return string(tree.Rune)
	case syntax.OpCapture, syntax.OpAlternate:
		return look(tree.Sub[0])
	case syntax.OpConcat:
		var text strings.Builder
		for _, part := range tree.Sub {
			text.WriteString(look(part))
		}
		return text.String()
	case syntax.OpCharClass, syntax.OpAnyChar, syntax.OpAnyCharNotNL, syntax.OpStar, syntax.OpPlus, syntax.OpRepeat:
		return gap
	default: // what may be left out, and places without characters
		return ""
	}
}
