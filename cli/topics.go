package cli

import (
	"encoding/json"
	"strings"

	"github.com/spf13/cobra"

	"anchorage.example/unicrux/core/suggest"
	"anchorage.example/unicrux/core/untrusted"
	"anchorage.example/unicrux/docs/schemas"
	"anchorage.example/unicrux/render"
)

// topicNames lists what there is help about besides commands.
func topicNames() []string { return []string{"options", "exit-codes", "environment", "files", "json"} }

// topic is the page of a topic.
func topic(root *cobra.Command, name string) (render.HelpPage, bool) {
	switch name {
	case "options":
		return render.HelpPage{About: "Every command understands these options.",
			Groups: []render.HelpGroup{{Head: "Options", Rows: optionRows(root.PersistentFlags(), nil)}}}, true
	case "exit-codes":
		return render.HelpPage{
			About: "The exit status of every command.",
			Groups: []render.HelpGroup{{Head: "Exit codes",
				Rows: []render.HelpRow{{Name: "0", About: "Done; or the way is open."},
					{Name: "1", About: "A crux was found; or the host, or a rule, refused."},
					{Name: "2", About: "The command line is wrong."},
					{Name: "3", About: "A file, a device or the program itself failed."},
					{Name: "4", About: "Something had to be asked, and there was no terminal to ask on."},
					{Name: "5", About: "Stopped by the person."}}}},
		}, true
	case "environment":
		return render.HelpPage{About: "Variables that Unicrux reads, beside those of git and ssh.",
			Groups: []render.HelpGroup{{Head: "Variables", Rows: []render.HelpRow{
				{Name: "UNICRUX_CONFIG", About: "The folder for descriptions of hosts, in place of ~/.config/unicrux."},
				{Name: "UNICRUX_DATA", About: "The folder for the chest, in place of ~/.local/share/unicrux."},
				{
					Name:  "UNICRUX_STATE",
					About: "The folder for the record of changes, in place of ~/.local/state/unicrux.",
				},
				{
					Name:  "UNICRUX_MACHINE",
					About: "The folder of what the administrator keeps for everybody, in place of /etc/unicrux.",
				},
				{Name: "NO_COLOR", About: "Set to anything: no colours."},
				{Name: "LC_ALL, LC_CTYPE, LANG", About: "The first that is set says whether the terminal shows UTF-8."},
				{
					Name: "XDG_CONFIG_HOME, XDG_DATA_HOME, XDG_STATE_HOME",
					About: "The base directories, where the first " +
						"three are not set.",
				}}}}}, true
	case "files":
		return render.HelpPage{About: "What Unicrux writes, each file with a record by which undo takes it back.",
			Groups: []render.HelpGroup{{Head: "Files", Rows: []render.HelpRow{
				{Name: "~/.ssh/unicrux.conf", About: "Settings for hosts, included by ~/.ssh/config."},
				{Name: "~/.ssh/known_hosts", About: "Host keys, after they were compared."},
				{Name: "~/.ssh/NAME, NAME.pub", About: "Keys. A key that is retired is set aside, never deleted."},
				{Name: "~/.gitconfig", About: "One include, and what you set with host set."},
				{Name: "/etc/unicrux/hosts", About: "Descriptions of hosts for everybody here. Only apply writes there."},
				{Name: "/etc/unicrux/policy.toml", About: "What keys and tokens must be like here. Only apply writes it."},
				{Name: "/etc/unicrux/state.toml",
					About: "The state that was applied last; beside it what apply left where."},
				{Name: "/etc/ssh/ssh_config.d/50-unicrux.conf",
					About: "How ssh reaches hosts, for everybody: by apply."},
				{Name: "/etc/ssh/ssh_known_hosts", About: "Between two marks, keys of hosts for everybody: by apply."},
				{Name: "/etc/gitconfig", About: "One include of /etc/unicrux/git.config: by apply."},
				{Name: "~/.config/unicrux", About: "Descriptions of hosts, and git's settings for them."},
				{Name: "~/.local/share/unicrux", About: "The chest, sealed by its passphrase."},
				{Name: "~/.local/state/unicrux", About: "The record of changes, and sockets of the holder."}}}}}, true
	case "json":
		return render.HelpPage{
			About: "With --json a command prints one JSON document on standard output and nothing else " +
				"there. Its first name is schema, such as unicrux.check/1. Names are words in lower case; times are as in " +
				"RFC 3339, in UTC; paths are absolute; lists are never null; what is not known is null; secrets are " +
				"never in it.\n\nA command that fails prints unicrux.error/1: code, message, advice and exit. Codes are " +
				"stable. With --dry-run, what changes files prints unicrux.plan/1.",
			Groups: []render.HelpGroup{{Head: "Documents", Rows: documentRows()}},
			More:   "The JSON Schema (draft 2020-12) of one: unicrux help json NAME",
		}, true
	}
	return render.HelpPage{}, false
}

// documentRows lists the documents, and what each is.
func documentRows() []render.HelpRow {
	var rows []render.HelpRow
	for _, name := range schemas.Names() {
		text, _ := schemas.Of(name)
		var schema struct{ Description string }
		if err := json.Unmarshal([]byte(text), &schema); err != nil { // it is embedded, and a test reads it
			panic(err)
		}
		rows = append(rows, render.HelpRow{Name: name, About: schema.Description})
	}
	return rows
}

// showSchema prints the JSON Schema of a document as it is, with and without --json.
func showSchema(a *app, name string) error {
	name = strings.TrimSuffix(strings.TrimPrefix(name, "unicrux."), "/1")
	text, found := schemas.Of(name)
	if found {
		return a.print(text)
	}
	if near := suggest.Nearest(name, schemas.Names()); near != "" {
		return usage("there is no JSON document %s. Did you mean unicrux help json %s?",
			untrusted.Quote(untrusted.Clean(name)), near)
	}
	return usage("there is no JSON document %s. unicrux help json lists them", untrusted.Quote(untrusted.Clean(name)))
}
