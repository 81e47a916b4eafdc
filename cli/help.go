package cli

import (
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"anchorage.example/unicrux/core/suggest"
	"anchorage.example/unicrux/core/untrusted"
	"anchorage.example/unicrux/render"
)

// showHelp prints the page of a command.
func showHelp(a *app, command *cobra.Command) error {
	return showPage(a, helpPage(command))
}

func showPage(a *app, page render.HelpPage) error {
	return a.show(render.Help(a.style(), page), render.HelpDocument(page))
}

// helpPage is what there is to say of a command.
func helpPage(c *cobra.Command) render.HelpPage {
	page := render.HelpPage{Use: useLine(c), About: c.Long}
	if c.Long == "" {
		page.About = c.Short + "."
	}
	page.Examples = examples[strings.TrimPrefix(c.CommandPath(), "unicrux ")]
	if c.HasAvailableSubCommands() {
		page.Groups = commandGroups(c)
		page.More = "What each does: " + c.CommandPath() + " COMMAND --help"
	}
	if !isNoun(c) {
		page.Groups = append(page.Groups, optionGroups(c.LocalNonPersistentFlags())...)
	}
	if !c.HasParent() {
		page.Groups = append(page.Groups, render.HelpGroup{Head: "Options of every command",
			Rows: optionRows(c.PersistentFlags(), nil)})
		page.More = "More: unicrux help COMMAND, and " + strings.Join(topicNames(), ", ") + " in place of COMMAND."
	} else if !isNoun(c) {
		page.More = "Options of every command: unicrux help options"
	}
	return page
}

// alsoAlone marks a command that does something by itself, and has further ones below it.
var alsoAlone = map[string]string{"alone": "yes"}

// isNoun tells that a command only groups others.
func isNoun(c *cobra.Command) bool {
	return c.HasAvailableSubCommands() && c.Annotations["alone"] == ""
}

func useLine(c *cobra.Command) string {
	line := c.CommandPath()
	if _, arguments, found := strings.Cut(c.Use, " "); found {
		line += " " + arguments
	}
	switch {
	case isNoun(c):
		return line + " COMMAND"
	case len(optionRows(c.LocalNonPersistentFlags(), nil)) > 0 && !strings.Contains(line, "--"):
		return line + " [OPTIONS]"
	}
	return line
}

// commandGroups lists the commands of a command, in the order of their use.
func commandGroups(c *cobra.Command) []render.HelpGroup {
	groups := []render.HelpGroup{{Head: "Commands"}}
	for _, g := range c.Groups() {
		groups = append(groups, render.HelpGroup{Head: g.Title})
	}
	for _, child := range c.Commands() {
		if !child.IsAvailableCommand() {
			continue
		}
		at := slices.IndexFunc(c.Groups(), func(g *cobra.Group) bool { return g.ID == child.GroupID }) + 1
		groups[at].Rows = append(groups[at].Rows, render.HelpRow{Name: child.Name(), About: child.Short})
	}
	return groups
}

// secretOption reports whether an option is about a secret.
func secretOption(f *pflag.Flag) bool {
	return strings.Contains(f.Name, "passphrase") || strings.Contains(f.Name, "password") ||
		strings.Contains(f.Name, "token-from") || strings.Contains(f.Name, "secret")
}

// waitOption reports whether an option is about how something is done, and not about what.
func waitOption(f *pflag.Flag) bool {
	return slices.Contains([]string{"wait", "open", "copy", "no-browser", "browser", "by-hand", "run-commands", "mend",
		"confirm"}, f.Name)
}

// optionGroups puts options under heads: what, how, secrets.
func optionGroups(flags *pflag.FlagSet) []render.HelpGroup {
	return []render.HelpGroup{
		{
			Head: "Options",
			Rows: optionRows(flags, func(f *pflag.Flag) bool { return !secretOption(f) && !waitOption(f) }),
		},
		{Head: "How it is done", Rows: optionRows(flags, func(f *pflag.Flag) bool { return waitOption(f) })},
		{Head: "Secrets", Rows: optionRows(flags, secretOption)},
	}
}

// optionRows lists options with the names of their values and their defaults.
func optionRows(flags *pflag.FlagSet, which func(*pflag.Flag) bool) []render.HelpRow {
	var rows []render.HelpRow
	flags.VisitAll(func(f *pflag.Flag) {
		if f.Hidden || f.Name == "help" || which != nil && !which(f) {
			return
		}
		value, words := pflag.UnquoteUsage(f)
		name := "--" + f.Name
		if value != "" {
			name += " " + value
		}
		if words != "" && f.DefValue != "" && f.DefValue != "false" && f.DefValue != "0" && f.DefValue != "[]" &&
			!strings.Contains(words, "default") {
			words += " (default " + f.DefValue + ")"
		}
		rows = append(rows, render.HelpRow{Name: name, About: words})
	})
	return rows
}

// helpCommand shows the page of a command, or of a topic.
func helpCommand(a *app, root *cobra.Command) *cobra.Command {
	return &cobra.Command{
		Use:   "help [COMMAND|TOPIC]",
		Short: "Show the page of a command, or of a topic: " + strings.Join(topicNames(), ", "),
		Args:  cobra.ArbitraryArgs,
		ValidArgsFunction: func(_ *cobra.Command, args []string, begun string) ([]cobra.Completion,
			cobra.ShellCompDirective) {
			return pagesBelow(root, args, begun), cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(_ *cobra.Command, args []string) error {
			if len(args) == 0 {
				return showHelp(a, root)
			}
			if page, found := topic(root, args[0]); found && len(args) == 1 {
				return showPage(a, page)
			}
			if args[0] == "json" && len(args) == 2 {
				return showSchema(a, args[1])
			}
			found, rest, err := root.Find(args)
			if err != nil || len(rest) > 0 || found == root {
				return usage("there is no help about %s. unicrux help lists the commands and topics",
					untrusted.Quote(untrusted.Clean(strings.Join(args, " "))))
			}
			return showHelp(a, found)
		},
	}
}

// elsewhereWords are words that people know from elsewhere, and the command that does that here.
var elsewhereWords = map[string]string{
	"login": "token sign-in HOST", "signin": "token sign-in HOST", "auth": "token sign-in HOST", "status": "look",
	"doctor": "check", "diagnose": "check", "test": "check", "fix": "check --mend", "repair": "check --mend",
	"log": "changes", "history": "changes", "clone": "ready URL", "setup": "ready URL", "init": "ready URL",
	"agent": "look agent", "add": "host add HOST", "remove": "host drop HOST", "rm": "host drop HOST",
	"delete": "host drop HOST", "generate": "key new", "keygen": "key new", "create": "key new", "list": "look",
	"ls": "look", "config": "host set HOST NAME=VALUE", "settings": "host show HOST --settings", "revert": "undo",
	"rollback": "undo", "secrets": "chest show", "vault": "chest show", "keys": "key list", "tokens": "token list",
	"hosts": "host list", "remotes": "remote list", "repos": "repo list HOST", "why": "explain", "whoami": "look",
}

// meant is what somebody may have meant by a command that does not exist: the one that does what a word known from
// elsewhere means, or the nearest one. It is empty where nothing is near.
func meant(c *cobra.Command, word string) string {
	if !c.HasParent() && elsewhereWords[word] != "" {
		return "unicrux " + elsewhereWords[word]
	}
	var names []string
	for _, child := range c.Commands() {
		if child.IsAvailableCommand() {
			names = append(names, child.Name())
		}
	}
	if near := suggest.Nearest(word, names); near != "" {
		return c.CommandPath() + " " + near
	}
	return ""
}

// nearestOption is the option of a command that looks like one that it does not have; empty for none.
func nearestOption(c *cobra.Command, name string) string {
	var names []string
	look := func(f *pflag.Flag) {
		if !f.Hidden {
			names = append(names, f.Name)
		}
	}
	c.LocalFlags().VisitAll(look)
	c.InheritedFlags().VisitAll(look)
	if near := suggest.Nearest(name, names); near != "" {
		return "--" + near
	}
	return ""
}
