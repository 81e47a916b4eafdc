package cli

import (
	"time"

	"github.com/spf13/cobra"

	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/render"
)

func hostAccount(a *app) *cobra.Command {
	command := &cobra.Command{Use: "account", Short: "Several accounts on one host: list, add, drop"}
	command.AddCommand(accountList(a), accountAdd(a), accountDrop(a))
	return command
}

func accountAdd(a *app) *cobra.Command {
	var n hosts.NewAccount
	command := &cobra.Command{
		Use:   "add ACCOUNT@HOST",
		Short: "Use another account in the repositories below a folder",
		Long: `Makes git use another account of a host in the repositories below a folder: its own key, and
its own author. Clone URLs stay as they are. Programs that use git need not know of it.

The account is called ACCOUNT@HOST in all commands from then on.`,
		RunE: func(_ *cobra.Command, args []string) error {
			n.Text = args[0]
			registry, err := hosts.Open(a.station)
			if err != nil {
				return err
			}
			batch := a.begin("Add the account "+n.Text+".", n.Text)
			as, err := hosts.AddAccount(a.ctx, batch, a.station, registry, n)
			if err != nil {
				return err
			}
			words := as.Name + " is used in the repositories below " + a.station.Tilde(n.Folder) + "."
			if number(batch) == 0 {
				words = "That was so already."
			}
			text := a.style().Sentences(words, "Next, make it ready:") + render.CommandLine(a.style(), "unicrux",
				"ready", as.Name)
			return a.showChange(batch, text, render.DoneDocument(words, number(batch), time.Time{}))
		},
	}
	flags := command.Flags()
	flags.Var(named(&n.Folder, "DIR"), "folder", "below which the account's repositories are")
	flags.Var(named(&n.Author, "NAME"), "author-name", "who commits there are by")
	flags.Var(named(&n.Email, "ADDRESS"), "author-email", "the email address of commits there")
	return command
}

func accountDrop(a *app) *cobra.Command {
	return &cobra.Command{
		Use: "drop ACCOUNT@HOST", Short: "Stop using an account; its key stays",
		RunE: func(_ *cobra.Command, args []string) error {
			registry, err := hosts.Open(a.station)
			if err != nil {
				return err
			}
			batch := a.begin("Drop the account "+args[0]+".", args[0])
			if err := hosts.DropAccount(a.ctx, batch, a.station, registry, args[0]); err != nil {
				return err
			}
			words := args[0] + " is no longer used anywhere. Its key stays where it is."
			return a.showDone(batch, words)
		},
	}
}

func accountList(a *app) *cobra.Command {
	return &cobra.Command{
		Use: "list HOST", Short: "List the accounts on a host, and where each is used",
		RunE: func(_ *cobra.Command, args []string) error {
			view, err := lookAround(a)
			if err != nil {
				return err
			}
			registry, d, err := a.host(args[0])
			if err != nil {
				return err
			}
			accounts, err := registry.Accounts(a.station, d)
			if err != nil {
				return err
			}
			config, err := gitlink.ReadConfig(a.ctx, a.station)
			if err != nil {
				return err
			}
			if len(accounts) > 0 && !hosts.GitReads(config, a.station) {
				a.progress("git does not read " + a.station.Tilde(hosts.OurGitFile(a.station)) +
					", so none of this is in effect. To include it again: unicrux host account add.")
			}
			return a.show(render.Accounts(a.style(), d, accounts, view, a.station.Tilde),
				render.AccountsDocument(d, accounts, view))
		},
	}
}
