package cli

import (
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"anchorage.example/unicrux/core/completion"
	"anchorage.example/unicrux/docs/schemas"
)

// shells are those that can complete commands, in the order of their use.
var shells = []string{"bash", "zsh", "fish", "powershell"}

// completionCommand prints what makes a shell complete: the library writes it, and asks this program at each key.
func completionCommand(a *app) *cobra.Command {
	return &cobra.Command{
		Use:   "completion bash|zsh|fish|powershell",
		Short: "Make your shell complete commands, options, hosts, keys, tokens",
		Long: `Prints a script for your shell. With it the shell completes commands, options and their
values, and the names of your hosts, accounts, keys, tokens, remotes and changes.

bash wants the package bash-completion. For every new bash, in ~/.bashrc:
    source <(unicrux completion bash)
For every new zsh, in ~/.zshrc, below compinit:
    source <(unicrux completion zsh)
For every new fish, once:
    unicrux completion fish > ~/.config/fish/completions/unicrux.fish
For every new PowerShell, in the file that $PROFILE names:
    unicrux completion powershell | Out-String | Invoke-Expression`,
		RunE: func(c *cobra.Command, args []string) error {
			root := c.Root()
			switch args[0] {
			case "bash":
				return root.GenBashCompletionV2(a.Out, true)
			case "zsh":
				return root.GenZshCompletion(a.Out)
			case "fish":
				return root.GenFishCompletion(a.Out, true)
			case "powershell":
				return root.GenPowerShellCompletionWithDesc(a.Out)
			}
			return usage("completion accepts %s, not %q", join(shells, ", ", " or "), args[0])
		},
	}
}

// complete makes every command and option complete what its use line names.
func complete(a *app, command *cobra.Command) {
	for _, child := range command.Commands() {
		complete(a, child)
	}
	command.LocalFlags().VisitAll(func(f *pflag.Flag) {
		if f.Value.Type() == "bool" {
			return
		}
		_ = command.RegisterFlagCompletionFunc(f.Name, // fails for an option that has one already
			func(_ *cobra.Command, _ []string, begun string) ([]cobra.Completion, cobra.ShellCompDirective) {
				return a.completeFlag(f, begun)
			})
	})
	if command.HasSubCommands() || command.ValidArgsFunction != nil {
		return
	}
	places := argumentsOf(command.Use).names
	command.ValidArgsFunction = func(_ *cobra.Command, args []string, begun string) ([]cobra.Completion,
		cobra.ShellCompDirective) {
		return a.completeAny(alternatives(places, len(args)), begun)
	}
}

// pagesBelow are the commands below others that have a page, and at first the topics as well.
func pagesBelow(root *cobra.Command, args []string, begun string) []cobra.Completion {
	var words []string
	if len(args) == 1 && args[0] == "json" {
		words = schemas.Names()
	} else if found, rest, err := root.Find(args); err == nil && len(rest) == 0 {
		words = verbs(found)
		if found == root {
			words = append(words, topicNames()...)
		}
	}
	return slices.DeleteFunc(words, func(w string) bool { return !strings.HasPrefix(w, begun) })
}

// completeFlag completes the value of an option.
func (a *app) completeFlag(f *pflag.Flag, begun string) ([]cobra.Completion, cobra.ShellCompDirective) {
	if words := offered(f); words != nil {
		return words, cobra.ShellCompDirectiveNoFileComp
	}
	name, _ := pflag.UnquoteUsage(f)
	return a.completeAny([]string{name}, begun)
}

// completeAny completes a word that can be one of several things.
func (a *app) completeAny(names []string, begun string) ([]cobra.Completion, cobra.ShellCompDirective) {
	var words []cobra.Completion
	directive := cobra.ShellCompDirectiveNoFileComp
	for _, name := range names {
		switch {
		case name == "FILE", name == "STATE.toml", name == "KEY" && strings.ContainsAny(begun, `/\`):
			directive = cobra.ShellCompDirectiveDefault
		case name == "DIR":
			return nil, cobra.ShellCompDirectiveFilterDirs
		case name == strings.ToLower(name):
			words = append(words, name)
		case name == "ACCOUNT@HOST" && strings.Contains(begun, "@"):
			words = append(words, a.atHosts(begun)...)
		case completion.Known(name):
			words = append(words, a.completed(name)...)
		}
		if name == "NAME=VALUE" {
			directive |= cobra.ShellCompDirectiveNoSpace
		}
	}
	words = slices.DeleteFunc(words, func(w cobra.Completion) bool { return !strings.HasPrefix(w, begun) })
	return words, directive
}

func (a *app) completed(name string) []cobra.Completion {
	var words []cobra.Completion
	for _, w := range completion.Words(a.ctx, a.station, name) {
		words = append(words, cobra.CompletionWithDesc(w.Text, w.About))
	}
	return words
}

// atHosts completes the host of an account that is new.
func (a *app) atHosts(begun string) []cobra.Completion {
	account, _, _ := strings.Cut(begun, "@")
	var words []cobra.Completion
	for _, w := range completion.Words(a.ctx, a.station, "HOST") {
		if !strings.Contains(w.Text, "@") {
			words = append(words, cobra.CompletionWithDesc(account+"@"+w.Text, w.About))
		}
	}
	return words
}
