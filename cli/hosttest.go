package cli

import (
	"slices"

	"github.com/spf13/cobra"

	"anchorage.example/unicrux/core/origin"
	"anchorage.example/unicrux/core/trial"
	"anchorage.example/unicrux/render"
)

type testOptions struct {
	secretOptions
	changes bool
}

func hostTest(a *app) *cobra.Command {
	var o testOptions
	command := &cobra.Command{
		Use:   "test HOST",
		Short: "Try what a host's description says about its API",
		Long: `Tries each operation of a host's description that changes nothing, and reports the results. With
--changes it also tries those that change something, on a throwaway key and a throwaway
token, and removes them again.`,
		RunE: func(_ *cobra.Command, args []string) error { return testHost(a, &o, args[0]) },
	}
	command.Flags().BoolVar(&o.changes, "changes", false, "also try what changes something, and undo it")
	o.addToken(command)
	passwordOptions(a, command)
	return command
}

func testHost(a *app, o *testOptions, name string) error {
	place, err := a.place()
	if err != nil {
		return err
	}
	host, err := place.Registry.Find(name)
	if err != nil {
		return err
	}
	if a.password.from == "" && !a.mayAsk() {
		place.SignIn = nil // what wants a password is not tried
	}
	token := origin.Bound{}
	for _, operation := range host.Operations {
		if !operation.Open && operation.SignIn == "" && token.Empty() {
			if token, err = tokenFor(a, &o.secretOptions, host, ""); err != nil {
				return err
			}
		}
	}
	batch := a.begin("Try how "+host.Name+" receives changes.", host.Name)
	s := a.style()
	list := trial.API(a.ctx, place, batch, place.Client(host, token), o.changes && !a.dry, func(t trial.Trial) {
		if !a.json && !a.quiet {
			_ = a.print(render.Trial(s, t)) // whoever reads it may have gone
		}
	})
	if a.json {
		err = a.show("", render.TrialsDocument(list, host.Name, number(batch)))
	} else if !a.quiet {
		err = a.print(render.TrialsEnd(s, list, host.Name))
	}
	if err == nil && a.ctx.Err() != nil {
		err = errStopped
	}
	if err == nil && slices.ContainsFunc(list, func(t trial.Trial) bool { return t.State == trial.Fails }) {
		return &told{exitCrux}
	}
	return err
}
