package cli

import (
	"time"

	"github.com/spf13/cobra"

	"anchorage.example/unicrux/core/hostapi"
	"anchorage.example/unicrux/core/registration"
	"anchorage.example/unicrux/core/untrusted"
	"anchorage.example/unicrux/render"
)

func keyCompare(a *app) *cobra.Command {
	var o compareOptions
	command := &cobra.Command{
		Use:   "compare HOST",
		Short: "Hold the keys that are here against those that a host knows",
		Long: `Holds the keys that are here against those that a host lists for your account. A host that
lists none is asked over SSH about one key after another; nobody signs in for that.`,
		RunE: func(_ *cobra.Command, args []string) error { return runCompare(a, &o, args[0]) },
	}
	o.addList(command, "the keys that open this repository alone", "the keys with which commits are signed")
	o.addToken(command)
	return command
}

type compareOptions struct {
	secretOptions
	keyListOptions
}

func runCompare(a *app, o *compareOptions, name string) error {
	if err := o.check(); err != nil {
		return err
	}
	place, err := a.place()
	if err != nil {
		return err
	}
	host, err := place.Registry.Find(name)
	if err != nil {
		return err
	}
	if (o.list() == hostapi.KeyList{}) && !host.Can("list-keys") {
		list, more, err := registration.CompareByTrying(a.ctx, place, host)
		if err != nil {
			return err
		}
		text := render.Compared(a.style(), list, host.Name, a.station.Now(),
			a.station.Tilde) + render.ComparedByTrying(a.style(), host.Name, more)
		return a.show(text, render.ComparedDocument(list, host.Name))
	}
	token, err := tokenFor(a, &o.secretOptions, host, "keys")
	if err != nil {
		return err
	}
	list, err := registration.Compare(a.ctx, place, host, o.list(), token)
	if err != nil {
		return err
	}
	return a.show(render.Compared(a.style(), list, host.Name, a.station.Now(), a.station.Tilde),
		render.ComparedDocument(list, host.Name))
}

type withdrawOptions struct {
	secretOptions
	keyListOptions
	byHand bool
	wait   time.Duration
}

func keyWithdraw(a *app) *cobra.Command {
	var o withdrawOptions
	command := &cobra.Command{
		Use:   "withdraw KEY HOST",
		Short: "Make a host forget a key",
		Long: `Removes a key from a host, so that nobody can sign in with it there. The key itself stays
here, and "unicrux undo" registers it again.

With --by-hand, and for hosts without an API, it shows where to remove the key, and asks the
host over SSH now and then until it no longer accepts the key.`,
		RunE: func(_ *cobra.Command, args []string) error { return runWithdraw(a, &o, args[0], args[1]) },
	}
	flags := command.Flags()
	o.addList(command, "from this repository alone, where it was registered with --repo",
		"from the keys with which commits are signed")
	flags.BoolVar(&o.byHand, "by-hand", false, "show where to remove it, and wait until the host no longer accepts it")
	lasts(flags, &o.wait, "wait", 10*time.Minute, "with --by-hand: how long to wait; 0 asks once")
	o.addToken(command)
	return command
}

func runWithdraw(a *app, o *withdrawOptions, name, hostName string) error {
	place, pair, host, err := keyAtHost(a, name, hostName)
	if err != nil {
		return err
	}
	batch := a.begin("Withdraw a key from "+host.Name+".", host.Name)
	if err := o.check(); err != nil {
		return err
	}
	if (o.list() == hostapi.KeyList{}) && (o.byHand || !host.Can("remove-key") || !host.Can("list-keys")) {
		a.progress(render.TakeAway(a.style(), pair, host))
		if err := registration.WithdrawByHand(a.ctx, place, batch, pair, host, o.wait); err != nil {
			return err
		}
		words := host.Name + " no longer accepts " + pair.Name() + "."
		return a.showDone(batch, words)
	}
	token, err := tokenFor(a, &o.secretOptions, host, "keys")
	if err != nil {
		return err
	}
	known, err := registration.Withdraw(a.ctx, place, batch, pair, host, o.list(), token)
	if err != nil {
		return err
	}
	words := host.Name + " no longer knows " + pair.Name() + ". It was listed there as “" +
		untrusted.Clean(known.Title) + "”."
	return a.showDone(batch, words)
}
