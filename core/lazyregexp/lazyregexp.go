// Package lazyregexp reads regular expressions (RE2) when they are wanted first: most runs of the program
// want few of them, and git waits for some runs.
package lazyregexp

import (
	"regexp"
	"sync"
)

// Late returns what reads the form, once.
func Late(form string) func() *regexp.Regexp {
	return sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(form) })
}
