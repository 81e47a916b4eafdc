package cli

import (
	"time"

	"github.com/spf13/cobra"

	"anchorage.example/unicrux/core/agent"
	"anchorage.example/unicrux/core/keys"
	"anchorage.example/unicrux/render"
)

type loadOptions struct {
	passphrase, host string
	lifetime         time.Duration
	keep, confirm    bool
}

func keyLoad(a *app) *cobra.Command {
	var o loadOptions
	command := &cobra.Command{
		Use:   "load KEY",
		Short: "Unlock a key once and hold it for a working day",
		Long: `Unlocks a key and lets it be held for a time. Until then nobody is asked for the
passphrase, in whatever program uses ssh.

It is held by the holder, a process of Unicrux in the background, and the settings of each
host that uses the key are made to ask it. An agent that your own settings name for such a
host gets the key instead.`,
		RunE: func(_ *cobra.Command, args []string) error { return runLoad(a, o, args[0]) },
	}
	flags := command.Flags()
	lasts(flags, &o.lifetime, "for", agent.WorkingDay, "how long it is held")
	flags.Var(named(&o.host, "HOST"), "host", "make ssh ask the holder for this host as well")
	flags.Var(named(&o.passphrase, "FILE"), "passphrase-from", "read the passphrase from FILE, or - for standard input")
	flags.BoolVar(&o.confirm, "confirm", false, "ask you before each use of the key, with the program in SSH_ASKPASS")
	flags.BoolVar(&o.keep, "keep-passphrase", false,
		"let the desktop's secret service keep the passphrase, and unlock the key from there")
	return command
}

func runLoad(a *app, o loadOptions, name string) error {
	if o.lifetime < time.Second {
		return usage("--for accepts a time of at least a second, such as 8h")
	}
	if o.confirm && a.getenv("SSH_ASKPASS") == "" {
		return &problem{message: "--confirm asks with the program in SSH_ASKPASS, and that is not set",
			advice: "Set SSH_ASKPASS to such a program, run unicrux holder stop, and load the key again.",
			exit:   exitCrux}
	}
	place, pair, err := keyAt(a, name)
	if err != nil {
		return err
	}
	load := keys.Loading{Pair: pair, Lifetime: o.lifetime, Keep: o.keep, Confirm: o.confirm}
	if o.host != "" {
		if load.HostName, err = place.Registry.HostName(o.host); err != nil {
			return err
		}
	}
	if pair.Locked && !a.dry {
		if load.Passphrase, err = a.asker(o.passphrase)(pair); err != nil {
			return err
		}
	}
	batch := a.begin("Hold " + pair.Name() + " unlocked.")
	loaded, err := keys.Load(a.ctx, place, batch, load)
	if err != nil {
		return err
	}
	if a.dry {
		text := a.style().Sentences("Would unlock " + pair.Name() + " and let it be held.")
		if len(batch.Differences()) > 0 {
			text += "\n" + render.Plan(a.style(), batch.Differences(), a.station.Tilde)
		}
		return a.show(text, render.PlanDocument(batch.Differences()))
	}
	words := loaded.Words(pair.Name())
	if loaded.Kept {
		words += " The desktop keeps its passphrase, and ssh gets the key unlocked from there on."
	}
	return a.showChange(batch, a.style().Sentences(words),
		render.LoadedDocument(pair.Path, loaded.Sockets, loaded.Until, number(batch)))
}

func keyUnload(a *app) *cobra.Command {
	var forget bool
	command := &cobra.Command{
		Use: "unload KEY", Short: "Stop holding a key: its passphrase is asked again",
		RunE: func(_ *cobra.Command, args []string) error { return runUnload(a, args[0], forget) },
	}
	command.Flags().BoolVar(&forget, "forget-passphrase", false,
		"make the desktop's secret service forget its passphrase as well")
	return command
}

func runUnload(a *app, name string, forget bool) error {
	place, pair, err := keyAt(a, name)
	if err != nil {
		return err
	}
	if a.dry {
		return a.show(a.style().Sentences("Would make the agents forget "+pair.Name()+"."), render.PlanDocument(nil))
	}
	sockets, err := keys.Unload(a.ctx, place, pair)
	if err != nil {
		return err
	}
	words := "No agent held " + pair.Name() + "."
	if len(sockets) > 0 {
		words = pair.Name() + " is no longer held."
	}
	if forget {
		forgot, err := keys.ForgetPassphrase(place, a.begin("Forget the passphrase of "+pair.Name()+"."), pair)
		if err != nil {
			return err
		}
		if forgot {
			words += " The desktop no longer keeps its passphrase."
		} else {
			words += " The desktop kept no passphrase of it."
		}
	}
	return a.show(a.style().Sentences(words), render.LoadedDocument(pair.Path, sockets, time.Time{}, 0))
}
