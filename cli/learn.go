package cli

import (
	"errors"

	"github.com/spf13/cobra"

	"anchorage.example/unicrux/core/address"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/learn"
	"anchorage.example/unicrux/render"
)

func hostLearn(a *app) *cobra.Command {
	var name string
	command := &cobra.Command{
		Use:   "learn URL",
		Short: "Make a small description of a host that nobody has described, from a clone URL",
		Long: `Writes down what a clone URL and your own ssh config say about a host: its name, the login, the
port. "unicrux ready URL" does the same by itself. Your ssh config stays as it is.

Such a host has no API that Unicrux knows: keys and tokens are registered on its web page. A
description that somebody wrote takes its place when it is added.`,
		RunE: func(_ *cobra.Command, args []string) error {
			at, err := address.Parse(args[0])
			if err != nil {
				return err
			}
			place, err := a.place()
			if err != nil {
				return err
			}
			source, err := learn.Host(a.ctx, place, at, name)
			if known := place.Registry.ForHost(at.Host); errors.Is(err, learn.ErrDescribed) && known != nil {
				return a.show(render.Host(a.style(), known), render.HostDocument(known, 0)) // it is so already
			}
			if err != nil {
				return err
			}
			batch := a.begin("Learn the host "+source.Description.HostName()+".", source.Description.Name)
			if err := hosts.Add(batch, a.station, source); err != nil {
				return err
			}
			return a.showChange(batch, render.Host(a.style(), source.Description),
				render.HostDocument(source.Description, number(batch)))
		},
	}
	command.Flags().
		Var(named(&name, "NAME"), "name", "what to call it (default: the most telling word of its host name)")
	return command
}
