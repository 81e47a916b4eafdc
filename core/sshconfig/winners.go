package sshconfig

import (
	"cmp"
	"slices"
	"strings"
)

// A Winner is a keyword that the settings set, with the values that hold and those that lost.
type Winner struct {
	Keyword string // in lower case
	Values  []Value
	Lost    []Value // that stand further down, where an earlier value has won
}

// Text is the value as it stands in its line.
func (v Value) Text() string {
	if v.rest != "" {
		return v.rest
	}
	words := make([]string, len(v.Args))
	for i, arg := range v.Args {
		words[i] = quoteArg(arg)
	}
	return strings.Join(words, " ")
}

// Winners lists all that is set for the host, in the order in which it was read.
func (s *Settings) Winners() []Winner {
	var list []Winner
	for keyword, values := range s.values {
		list = append(list, Winner{Keyword: keyword, Values: values, Lost: s.lost[keyword]})
	}
	slices.SortFunc(list, func(a, b Winner) int { return cmp.Compare(a.Values[0].turn, b.Values[0].turn) })
	return list
}

// Unused lists the values that were written for this very host and lost against others.
func (s *Settings) Unused() []Value {
	var list []Value
	for _, w := range s.Winners() {
		for _, lost := range w.Lost {
			if lost.Named && !slices.Equal(lost.Args, w.Values[0].Args) {
				list = append(list, lost)
			}
		}
	}
	return list
}

// Flat writes the settings as a file in which nothing depends on anything: the values that
// hold, one on each line. The client reads from it what we read from all files together.
func (s *Settings) Flat() []byte {
	var b strings.Builder
	for _, w := range s.Winners() {
		for _, value := range w.Values {
			b.WriteString(w.Keyword + " " + value.Text() + "\n")
		}
	}
	return []byte(b.String())
}
