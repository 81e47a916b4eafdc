package cli

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"github.com/spf13/cobra"
)

// arguments are what a use line names behind the command, without its options.
type arguments struct {
	names       []string // at each place: “ssh|https”, “KEY”, “NAME=VALUE…”
	least, most int
}

// argumentsOf reads a use line: “use ssh|https [REMOTE]” has two places, of which one must be there.
func argumentsOf(use string) (a arguments) {
	fields := strings.Fields(use)
	for i, field := range fields {
		if i == 0 || strings.HasPrefix(field, "--") || strings.HasPrefix(fields[i-1], "--") {
			continue
		}
		if !strings.HasPrefix(field, "[") {
			a.least++
		}
		a.names = append(a.names, strings.Trim(field, "[]"))
	}
	if a.most = len(a.names); a.most > 0 && repeats(a.names[a.most-1]) {
		a.most = math.MaxInt
	}
	return a
}

// repeats reports whether a place is for all arguments that follow.
func repeats(name string) bool {
	return strings.HasSuffix(name, "…") || strings.HasSuffix(name, "...")
}

// alternatives are what can be at a place.
func alternatives(names []string, at int) []string {
	if len(names) > 0 && at >= len(names) && repeats(names[len(names)-1]) {
		at = len(names) - 1
	}
	if at >= len(names) {
		return nil
	}
	return strings.Split(strings.TrimRight(names[at], "….]"), "|")
}

// demandArguments holds a command and all below it to their use lines.
func demandArguments(command *cobra.Command) {
	for _, child := range command.Commands() {
		demandArguments(child)
	}
	if command.HasSubCommands() || command.Args != nil {
		return
	}
	a := argumentsOf(command.Use)
	command.Args = func(c *cobra.Command, args []string) error {
		if len(args) >= a.least && len(args) <= a.most {
			return nil
		}
		return usage("%s %s, and got %s", c.CommandPath(), a.wanted(len(args)), countArguments(len(args)))
	}
}

// wanted says what a command needs that got another number of arguments.
func (a arguments) wanted(got int) string {
	if a.most == 0 {
		return "needs no argument"
	}
	names := slices.Clone(a.names)
	for i, name := range names {
		names[i] = strings.ReplaceAll(strings.TrimRight(name, "….]"), "|", " or ")
	}
	if got < a.least {
		return "needs " + join(names[:a.least], ", ", " and ")
	}
	return "accepts only " + join(names, ", ", " and ")
}

func countArguments(n int) string {
	switch n {
	case 0:
		return "no argument"
	case 1:
		return "one argument"
	}
	return fmt.Sprintf("%d arguments", n)
}
