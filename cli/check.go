package cli

import (
	"github.com/spf13/cobra"

	"unicrux/core/diagnose"
	"unicrux/core/hosts"
	"unicrux/render"
)

type checkOptions struct{ purpose, passphrase string }

func (a *app) checkCommand() *cobra.Command {
	var o checkOptions
	command := &cobra.Command{
		Use:   "check [URL|REMOTE|HOST]",
		Short: "Go the way to a repository without changing anything, and name what stops it",
		Long: `Goes the way to a repository stage by stage, as git and ssh would go it, and names the
one cause that stops it, with evidence and with what mends it. Nothing is changed, here
or on the host.

Without an argument it asks about the remote that a plain push would use.`,
		Example: `  unicrux check git@forge.tidewater.example:buoys/drift-model.git
  unicrux check --for push origin
  unicrux check forge`,
		Args: takes(0, 1, "a clone URL, a remote or a host"),
		RunE: func(_ *cobra.Command, args []string) error { return a.check(o, args) },
	}
	command.Flags().StringVar(&o.purpose, "for", "", "clone or push (default: clone for a URL, push for a remote)")
	command.Flags().StringVar(&o.passphrase, "passphrase-from", "", "read the key's passphrase from this file, or - for standard input")
	return command
}

func (a *app) check(o checkOptions, args []string) error {
	request := diagnose.Request{Purpose: diagnose.Purpose(o.purpose), Timeout: a.timeout, Ask: a.asker(o.passphrase)}
	switch request.Purpose {
	case "", diagnose.Clone, diagnose.Push:
	default:
		return usage("--for takes clone or push, not %q", o.purpose)
	}
	if len(args) == 1 {
		if request.Argument = args[0]; request.Argument == "" {
			return usage("the clone URL is empty")
		}
	}
	registry, err := hosts.Open(a.station)
	if err != nil {
		return err
	}
	way, err := diagnose.Check(a.ctx, a.station, registry, request)
	if err != nil {
		return err
	}
	if err := a.show(a.style().Way(way), render.WayDocument(way)); err != nil {
		return err
	}
	if !way.IsOpen() {
		return &told{exitCrux}
	}
	return nil
}
