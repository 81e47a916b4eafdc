package cli

import (
	"errors"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"anchorage.example/unicrux/core/expiry"
	"anchorage.example/unicrux/core/keys"
	"anchorage.example/unicrux/core/registration"
	"anchorage.example/unicrux/core/renewal"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/render"
)

type renewOptions struct {
	secretOptions
	host, kind, until string
	wait              time.Duration
}

func keyRenew(a *app) *cobra.Command {
	var o renewOptions
	command := &cobra.Command{
		Use:   "renew KEY",
		Short: "Put a new pair in a key's place, wherever the key is known",
		Long: `Makes a new pair beside the old one and registers it with every host that knows the old
one. When signing in with the new one has proved that it works, the settings are moved to
it. Only then the old one is withdrawn from the hosts, and its files are set aside.

At every moment the settings lead to a key that works. Stopped anywhere, run it again: it
goes on.`,
		RunE: func(_ *cobra.Command, args []string) error { return runRenew(a, &o, args[0]) },
	}
	flags := command.Flags()
	flags.Var(named(&o.host, "HOST"), "host", "only at this host; elsewhere the old key stays")
	flags.Var(oneOf(&o.kind, sshkey.Kinds()...), "type",
		"of the new key (default: as the old one, if that is good)")
	flags.Var(named(&o.until, "WHEN"), "until",
		"when the new key should expire at hosts: a day such as 2027-03-31, or 90d, 12w, 1y from now")
	lasts(flags, &o.wait, "wait", 10*time.Minute, "how long to wait for what you do on a web page; 0 tries once")
	o.addFlags(command)
	return command
}

func runRenew(a *app, o *renewOptions, name string) error {
	if err := o.validate(a); err != nil {
		return err
	}
	place, pair, err := keyAt(a, name)
	if errors.Is(err, keys.ErrNoKey) {
		if change, by, found := renewal.RenewedBefore(place, a.station.KeyPath(name)); found {
			words := fmt.Sprintf(
				"%s was renewed already: %s is in its place, and Unicrux moved the old files aside (change %d).",
				name,
				a.station.Tilde(by),
				change.ID,
			)
			return a.show(a.style().Sentences(words), render.DoneDocument(words, change.ID, time.Time{}))
		}
	}
	if err != nil {
		return err
	}
	r := renewal.Renewal{Old: pair, Kind: o.kind, Patience: o.wait,
		Told: func(words string) { sayDone(a, words) }, Paste: func(r registration.Registration) {
			pasteLine(a, r, false, o.wait)
		}}
	if o.host != "" {
		if r.Only, err = place.Registry.Find(o.host); err != nil {
			return err
		}
	}
	if o.until != "" {
		if r.Until, err = expiry.End(o.until, a.station.Now()); err != nil {
			return err
		}
	}
	batch := a.begin("Renew " + pair.Name() + ".")
	renewed, err := renewal.Renew(a.ctx, place, batch, r, a.secrets(&o.secretOptions))
	if err != nil {
		if number(batch) != 0 {
			a.progress("Stopped on the way. The key in use works. Run the same command again to go on.")
		}
		return err
	}
	return a.showChange(batch, render.Renewed(a.style(), renewed, pair, a.station.Tilde),
		render.RenewedDocument(renewed, pair, number(batch)))
}

// told says what a long command has just done.
func sayDone(a *app, words string) { a.say(a.style().Sentences(words)) }

func keyRetire(a *app) *cobra.Command {
	var o secretOptions
	var here bool
	command := &cobra.Command{
		Use:   "retire KEY",
		Short: "Take a key out of use everywhere",
		Long: `Withdraws a key from every host that knows it, makes agents forget it, takes it out of the
settings, and sets its files aside. "unicrux undo" takes all of that back, but for what
agents held.`,
		RunE: func(_ *cobra.Command, args []string) error {
			if err := o.validate(a); err != nil {
				return err
			}
			place, pair, err := keyAt(a, args[0])
			if err != nil {
				return err
			}
			batch := a.begin("Retire " + pair.Name() + ".")
			retired, err := renewal.Retire(a.ctx, place, batch, pair, here, a.secrets(&o),
				func(words string) { sayDone(a, words) })
			if err != nil {
				return err
			}
			return a.showChange(batch, render.Retired(a.style(), retired, pair, a.station.Tilde),
				render.RetiredDocument(retired, pair, number(batch)))
		},
	}
	command.Flags().BoolVar(&here, "here-only", false, "leave hosts as they are: they go on taking the key")
	o.addToken(command)
	return command
}
