package lazyregexp

import (
	"regexp/syntax"
	"strings"
)

// Needs lists words, in lower case, one of which stands in every text that has the form: looking for
// them first is much cheaper than the form. Nil when no such words are known.
func Needs(form string) []string {
	tree, err := syntax.Parse(form, syntax.Perl)
	if err != nil {
		return nil
	}
	return needs(tree.Simplify())
}

// mostNeeds bounds the list: of a longer one the search would cost as much as the form.
const mostNeeds = 12

func needs(tree *syntax.Regexp) []string {
	switch tree.Op {
	case syntax.OpLiteral:
		return []string{strings.ToLower(string(tree.Rune))}
	case syntax.OpCapture, syntax.OpPlus:
		return needs(tree.Sub[0])
	case syntax.OpConcat:
		var best []string
		for _, part := range tree.Sub {
			if list := needs(part); shortest(list) > shortest(best) {
				best = list
			}
		}
		return best
	case syntax.OpAlternate:
		var all []string
		for _, part := range tree.Sub {
			list := needs(part)
			if len(list) == 0 || len(all)+len(list) > mostNeeds {
				return nil
			}
			all = append(all, list...)
		}
		return all
	}
	return nil
}

// shortest is the length of the shortest word, which is what is worth least.
func shortest(words []string) int {
	least := 0
	for i, word := range words {
		if i == 0 || len(word) < least {
			least = len(word)
		}
	}
	return least
}
