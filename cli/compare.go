package cli

import (
	"github.com/spf13/cobra"

	"unicrux/core/foreign"
	"unicrux/render"
)

func (a *app) keyCompare() *cobra.Command {
	var o secretOptions
	command := &cobra.Command{
		Use:   "compare HOST",
		Short: "Hold the keys that are here against those that a host knows",
		Args:  takes(1, 1, "one host"),
		RunE: func(_ *cobra.Command, args []string) error {
			place, err := a.place()
			if err != nil {
				return err
			}
			host, err := place.Registry.Find(args[0])
			if err != nil {
				return err
			}
			token, err := a.token(&o, host)
			if err != nil {
				return err
			}
			list, err := place.Compare(a.ctx, host, token)
			if err != nil {
				return err
			}
			return a.show(a.style().Compared(list, host.Name, a.station.Now(), a.station.Tilde), render.ComparedDocument(list, host.Name))
		},
	}
	o.addToken(command)
	return command
}

func (a *app) keyWithdraw() *cobra.Command {
	var o secretOptions
	command := &cobra.Command{
		Use:   "withdraw KEY HOST",
		Short: "Make a host forget a key",
		Long: `Makes a host forget a key, so that nobody can sign in with it there any more. The key
itself stays here, and "unicrux undo" tells the host again.`,
		Args: takes(2, 2, "a key and a host"),
		RunE: func(_ *cobra.Command, args []string) error { return a.withdraw(&o, args[0], args[1]) },
	}
	o.addToken(command)
	return command
}

func (a *app) withdraw(o *secretOptions, name, hostName string) error {
	place, pair, host, err := a.keyAtHost(name, hostName)
	if err != nil {
		return err
	}
	token, err := a.token(o, host)
	if err != nil {
		return err
	}
	batch := a.station.Begin("Withdraw a key from "+host.Name+".", a.dry)
	known, err := place.Withdraw(a.ctx, batch, pair, host, token)
	if err != nil {
		return err
	}
	words := host.Name + " does not know " + pair.Name() + " any more. It was listed there as “" + foreign.Clean(known.Title) + "”."
	return a.showChange(batch, a.style().Sentences(words), render.DoneDocument(words, number(batch)))
}
