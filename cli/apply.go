package cli

import (
	"encoding/json"
	"errors"
	"io"
	"slices"

	"github.com/spf13/cobra"

	"anchorage.example/unicrux/core/accounts"
	"anchorage.example/unicrux/core/apply"
	"anchorage.example/unicrux/core/declared"
	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/fault"
	"anchorage.example/unicrux/render"
)

// applyOptions are the options of apply.
type applyOptions struct {
	homes bool
	only  []string
}

func applyCommand(a *app) *cobra.Command {
	var o applyOptions
	command := &cobra.Command{
		Use:   "apply STATE.toml",
		Short: "Make this machine as its administrator declares: hosts, trusted keys, settings, policy",
		Long: `Makes this machine as a file declares: which hosts are described for everybody and how they
are reached, which keys of hosts are trusted and which never again, what is asked of keys and
tokens. It writes into /etc/unicrux, /etc/ssh/ssh_config.d/50-unicrux.conf, marked lines of
/etc/ssh/ssh_known_hosts, and one include in /etc/gitconfig. Other lines are not touched, and
homes are not either, unless --homes says so. All of it is one change, so undo takes it back.
Applied again, nothing changes.

What an earlier state put there and this one no longer names is removed, unless it was edited
since. With --dry-run nothing is changed, and the exit code is 1 where something would be.`,
		RunE: func(_ *cobra.Command, args []string) error { return o.run(a, args[0]) },
	}
	flags := command.Flags()
	flags.BoolVar(&o.homes, "homes", false,
		"also settle each home, as its owner: hosts that are to be absent, host keys that are distrusted")
	flags.Var(&wordList{to: &o.only, is: "PART", choices: apply.Parts()}, "only",
		"settle this part alone: host, trust, git or policy; may be given several times")
	return command
}

func (o *applyOptions) run(a *app, path string) error {
	applied, err := o.settle(a, path)
	if err != nil {
		return err
	}
	if a.quiet && !a.json && !applied.Moves() && !applied.Failed() {
		return nil
	}
	if err := a.show(render.Apply(a.style(), applied), render.ApplyDocument(applied)); err != nil {
		return err
	}
	switch {
	case applied.Failed():
		return &told{exitFailure}
	case a.dry && applied.Moves():
		return &told{exitCrux}
	}
	return nil
}

// settle applies a state, and settles the homes that were asked for.
func (o *applyOptions) settle(a *app, path string) (render.Applied, error) {
	state, err := declared.ReadFile(path)
	if err != nil {
		return render.Applied{}, wrongState(err)
	}
	applied := render.Applied{State: state, Dry: a.dry, Sudo: a.station.Getenv("SUDO_USER") != ""}
	options := apply.Options{Places: apply.Here(a.station), Program: a.program()}
	for _, part := range o.only {
		options.Only = append(options.Only, apply.Part(part))
	}
	unlock, err := a.station.Alone(a.ctx, "apply", func() { a.progress("Waiting for another apply to end.") })
	if err != nil {
		return applied, err
	}
	defer unlock()
	batch := a.begin("Apply " + render.StateName(state) + ".")
	if applied.Result, err = apply.Apply(a.ctx, batch, a.station, state, options); err != nil {
		return applied, wrongState(err)
	}
	applied.Differences, applied.Change = batch.Differences(), number(batch)
	if o.homes {
		homes, err := accounts.Homes(a.ctx)
		if err != nil {
			return applied, err
		}
		applied.Homes = apply.InHomes(a.ctx, homes, apply.OrderOf(state, a.dry), a.program(), "for-engine", "home")
	}
	return applied, nil
}

// wrongState says what to do about a state that cannot be applied as it is.
func wrongState(err error) error {
	var wrong *describe.Error // of whatever file is written in that language
	if errors.As(err, &wrong) && fault.Of(err) == nil {
		return &problem{message: err.Error(), advice: "Correct the file and apply it again. Nothing was changed.",
			exit: exitCrux, code: "state-wrong"}
	}
	return err
}

// forEngineHome settles the home of whoever runs it: what apply starts for each.
func forEngineHome(a *app) *cobra.Command {
	return &cobra.Command{
		Use: "home", Short: "Settle the home of whoever runs this, as apply orders", Args: cobra.NoArgs,
		RunE: func(_ *cobra.Command, _ []string) error {
			text, err := io.ReadAll(io.LimitReader(a.In, mostOfOrder))
			if err != nil {
				return err
			}
			var order apply.Order
			if err := json.Unmarshal(text, &order); err != nil {
				return usage("for-engine home reads an order of apply's")
			}
			a.dry = order.Dry
			batch := a.begin("Settle this home, as the administrator of the machine declares.")
			if err := apply.SettleHome(a.ctx, batch, a.station, order); err != nil {
				return err
			}
			done := apply.HomeDone{Done: []string{}, Change: number(batch)}
			for _, d := range batch.Differences() {
				done.Done = append(done.Done, d.Summary)
			}
			for _, step := range batch.Change().Steps {
				done.Done = append(done.Done, step.Summary)
			}
			done.Done = slices.Compact(done.Done)
			return a.print(render.JSON(done))
		},
	}
}

// mostOfOrder bounds an order.
const mostOfOrder = 4 << 20
