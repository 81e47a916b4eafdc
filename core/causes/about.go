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
	Mend    string    // what to do; empty where nothing has to
	By      By        // who can do it
	Looks   []string  // how programs print it, what varies as "…", the clearest first; at most three
	Tell    string    // what tells it from its rivals; empty where nothing has to
}

// AboutOf returns what is known about a code.
func AboutOf(code Code) About {
	entry, at := find(code)
	about := About{
		Code:    code,
		Stage:   entry.stage,
		Summary: entry.summary,
		Mend:    inWords(entry.mend, "", "your account", ""),
		By:      entry.by,
		Tell:    entry.signs.tell,
		Looks:   entry.signs.looks(),
	}
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

// looks are the clearest signs as a person would meet them: what the clients print, then what hosts say.
func (s signs) looks() (list []string) {
	shown := slices.DeleteFunc(slices.Clone(s.shown), func(s sign) bool { return s.weight < telling })
	slices.SortStableFunc(shown, func(a, b sign) int { return cmp.Compare(b.weight, a.weight) })
	for _, sign := range append(shown, asSigns(s.words)...) {
		look := lookOf(sign.form)
		if len(list) < maxLooks && len(look) >= shortLook && !slices.Contains(list, look) {
			list = append(list, look)
		}
	}
	return list
}

func asSigns(forms []string) []sign {
	list := make([]sign, len(forms))
	for i, form := range forms {
		list[i].form = form
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
	lines := strings.Split(text, "\n")
	longest := slices.MaxFunc(lines, func(a, b string) int { return cmp.Compare(len(a), len(b)) })
	return strings.Trim(longest, gap+" :.,;'(")
}

func look(tree *syntax.Regexp) string {
	switch tree.Op {
	case syntax.OpLiteral:
		return string(tree.Rune)
	case syntax.OpCapture, syntax.OpAlternate, syntax.OpQuest:
		return look(tree.Sub[0])
	case syntax.OpConcat:
		var text strings.Builder
		for _, part := range tree.Sub {
			text.WriteString(look(part))
		}
		return text.String()
	case syntax.OpStar, syntax.OpPlus:
		if isSpace(tree.Sub[0]) {
			return " "
		}
		return gap
	case syntax.OpCharClass, syntax.OpAnyChar, syntax.OpAnyCharNotNL, syntax.OpRepeat:
		return gap
	default: // places without characters
		return ""
	}
}

// isSpace reports whether a part of a form takes nothing but white space.
func isSpace(tree *syntax.Regexp) bool {
	return len(tree.Rune) > 0 && tree.Rune[len(tree.Rune)-1] <= ' '
}
