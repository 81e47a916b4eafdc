package cli

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/plainsecrets"
	"anchorage.example/unicrux/core/remotes"
	"anchorage.example/unicrux/render"
)

func remoteCommand(a *app) *cobra.Command {
	command := &cobra.Command{Use: "remote", Short: "Remotes of this folder's repository: list, use, clean"}
	command.AddCommand(remoteList(a), remoteUse(a), remoteClean(a))
	return command
}

func remoteList(a *app) *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the remotes: transport, account, and whether the URL contains a secret",
		Long: `Lists the remotes of the git or Mercurial repository that this folder is in, with those of its
submodules: the transport, the account where settings say which, and the URL that is used
where an insteadOf rule changes it. Secrets in URLs are hidden, and reported.`,
		RunE: func(*cobra.Command, []string) error { return showRemotes(a) },
	}
}

func showRemotes(a *app) error {
	registry, err := hosts.Open(a.station)
	if err != nil {
		return err
	}
	list, err := remotes.List(a.ctx, a.station, registry)
	if err != nil {
		return err
	}
	return a.show(render.Remotes(a.style(), list, a.station.Tilde), render.RemotesDocument(list))
}

func remoteUse(a *app) *cobra.Command {
	var source string
	command := &cobra.Command{
		Use:   "use ssh|https [REMOTE]",
		Short: "Reach a remote by ssh or by https",
		Long: `Turns the URLs of a remote into the host's other address, those for pushing alone as well.
Without REMOTE it is the one that a plain push would use. A secret in a URL is moved into the
chest first, as unicrux remote clean does.`,
		RunE: func(_ *cobra.Command, args []string) error {
			if args[0] != "ssh" && args[0] != "https" {
				return usage("a remote is reached by ssh or by https, not by %q", args[0])
			}
			registry, err := hosts.Open(a.station)
			if err != nil {
				return err
			}
			name := strings.Join(args[1:], "")
			if name == "" {
				config, err := gitlink.ReadConfig(a.ctx, a.station)
				if err != nil {
					return err
				}
				if name, err = config.DefaultRemote(a.ctx); err != nil {
					return err
				}
			}
			if err := runRescue(a, name, source); err != nil {
				return err
			}
			batch := a.begin("Reach a remote by " + args[0] + ".")
			urls, err := remotes.Use(a.ctx, batch, a.station, registry, name, args[0])
			if err != nil {
				return err
			}
			words := "The remote " + name + " is reached by " + args[0] + " now: " + strings.Join(urls, ", ")
			text := a.style().Sentences(words) + "\n" + a.style().Sentences("Try it:") +
				render.CommandLine(a.style(), "unicrux", "check", name)
			return a.showChange(batch, text, render.DoneDocument(words, number(batch), time.Time{}))
		},
	}
	chestOption(command, &source)
	return command
}

// runRescue moves the secrets in the URLs of a remote into the chest, so that they are not lost with the
// URLs.
func runRescue(a *app, name, source string) error {
	found, err := secretsOf(a, name)
	if err != nil || len(found) == 0 || a.dry {
		return err
	}
	_, list, err := adoptList(a, found, source)
	if err != nil {
		return err
	}
	for _, adopted := range list {
		switch {
		case adopted.Err != nil:
			return fmt.Errorf("%s: %w: %w", name, remotes.ErrSecretIn, adopted.Err)
		case adopted.Name == "":
			return fmt.Errorf("%s: %w", name, remotes.ErrSecretIn)
		}
		a.progress("The secret in the URL of " + name + " was moved into the chest, as " + adopted.Name + ".")
	}
	return nil
}

// secretsOf lists the secrets in the URLs of a remote, or of all of them.
func secretsOf(a *app, name string) ([]plainsecrets.Stray, error) {
	found, err := plainsecrets.Find(a.ctx, a.station, nil)
	return slices.DeleteFunc(found, func(s plainsecrets.Stray) bool {
		return s.Sort != plainsecrets.RemoteURL || (name != "" && !strings.HasPrefix(s.Key, "remote."+name+"."))
	}), err
}

func remoteClean(a *app) *cobra.Command {
	var source string
	command := &cobra.Command{
		Use:   "clean [REMOTE]",
		Short: "Move secrets out of the URLs of remotes",
		Long: `Moves passwords and tokens from the URLs of a remote, or of all of them, into the chest. git
is asked for each afterwards: where it does not get it, it is put back.`,
		RunE: func(_ *cobra.Command, args []string) error { return cleanRemotes(a, strings.Join(args, ""), source) },
	}
	chestOption(command, &source)
	return command
}

func cleanRemotes(a *app, name, source string) error {
	config, err := gitlink.ReadConfig(a.ctx, a.station)
	switch {
	case err != nil:
		return err
	case !config.InRepository():
		return remotes.ErrNoRepository
	case name != "" && !slices.Contains(config.Remotes(), name):
		return fmt.Errorf("%s: %w", name, remotes.ErrNoRemote)
	}
	found, err := secretsOf(a, name)
	if err != nil {
		return err
	}
	if len(found) == 0 {
		return remotes.ErrNoSecret
	}
	return adoptThese(a, found, source)
}
