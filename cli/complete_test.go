package cli

import (
	"slices"
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"anchorage.example/unicrux/core/completion"
)

// free are words in capitals in whose place anything can be: a shell has nothing to offer for them.
var free = []string{"FILE", "DIR", "URL", "NAME", "REPOSITORY", "KIND", "TEXT", "WHEN", "TIME", "PORT", "COMMAND",
	"TOPIC", "FINGERPRINT", "BITS", "HOSTNAME", "ADDRESS", "STATE.toml"}

// TestCompletionKnowsEveryName: whatever a use line or an option names in capitals is completed, or is known to be
// free; what has a few values completes those.
func TestCompletionKnowsEveryName(t *testing.T) {
	t.Parallel()
	a := &app{prompter: &prompter{console: &console{}}}
	known := 0
	judge := func(where string, names []string) {
		for _, name := range names {
			switch {
			case completion.Known(name):
				known++
			case name != strings.ToLower(name) && !slices.Contains(free, name):
				t.Errorf("%s: a shell does not know what %s is", where, name)
			}
		}
	}
	var each func(*cobra.Command)
	each = func(c *cobra.Command) {
		for _, child := range c.Commands() {
			if !child.Hidden {
				each(child)
			}
		}
		if isNoun(c) {
			return
		}
		for at, names := 0, argumentsOf(c.Use).names; at < len(names); at++ {
			judge(c.CommandPath(), alternatives(names, at))
		}
		c.LocalFlags().VisitAll(func(f *pflag.Flag) {
			if offered(f) != nil || f.Value.Type() == "bool" {
				return
			}
			name, _ := pflag.UnquoteUsage(f)
			judge(c.CommandPath()+" --"+f.Name, []string{name})
		})
	}
	each(a.root())
	if known < 40 {
		t.Errorf("only %d names are known", known)
	}
}
