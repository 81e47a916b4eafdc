package cli

import (
	"errors"
	"fmt"
	"strconv"

	"github.com/spf13/cobra"

	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/takeback"
	"anchorage.example/unicrux/core/workstation"
	"anchorage.example/unicrux/render"
)

func changesCommand(a *app) *cobra.Command {
	return &cobra.Command{
		Use: "changes", Short: "What Unicrux has changed here and at hosts, newest first", Args: takes(0, 0, ""),
		RunE: func(*cobra.Command, []string) error {
			all, err := a.station.Changes()
			if err != nil {
				return err
			}
			return a.show(render.Changes(a.style(), all, a.station.Tilde, a.station.Now()), render.ChangesDocument(all))
		},
	}
}

func undoCommand(a *app) *cobra.Command {
	var o secretOptions
	command := &cobra.Command{
		Use:   "undo [CHANGE]",
		Short: "Take a change back",
		Long: `Takes a change back, the newest one when none is named: each file gets its earlier bytes, and
what was registered with a host is withdrawn. Where a file was edited since, nothing is
touched and both versions are shown.

A private key is never deleted: it is set aside, and undo says where.`,
		Args: takes(0, 1, "the number of one change"),
		RunE: func(_ *cobra.Command, args []string) error { return runUndo(a, &o, args) },
	}
	o.addToken(command)
	return command
}

func runUndo(a *app, o *secretOptions, args []string) error {
	id := 0
	if len(args) == 1 {
		var err error
		if id, err = strconv.Atoi(args[0]); err != nil || id < 1 {
			return usage("a change is named by its number, not by %q", args[0])
		}
	}
	place, err := a.place()
	if err != nil {
		return err
	}
	secrets := a.secrets(o)
	undone, differences, err := a.station.Undo(id, a.dry, func(step workstation.HostStep) error {
		return takeback.Step(a.ctx, place, step, secrets.Token)
	})
	var edited *workstation.EditedError
	if errors.As(err, &edited) {
		return refuseUndo(a, edited)
	}
	if err != nil {
		return err
	}
	if a.dry {
		return a.show(render.UndoPlan(a.style(), differences, a.station.Tilde), render.PlanDocument(differences))
	}
	for _, step := range undone.Change.Steps {
		if step.Host != nil && step.Host.Act == hosts.ActRepo {
			a.progress(step.Host.Host + " keeps the repository " + step.Host.Data["repo"] +
				": remove it on its page if nobody needs it.")
		}
	}
	return a.show(render.Undone(a.style(), undone, a.station.Tilde), render.UndoneDocument(undone))
}

// refuseUndo shows both versions of a file that was edited since.
func refuseUndo(a *app, edited *workstation.EditedError) error {
	path := a.station.Tilde(edited.Path)
	advice := "Remove your edit, or correct the file yourself. Nothing was touched."
	if edited.By > 0 {
		advice = "Take that change back first: unicrux undo " + strconv.Itoa(edited.By) + ". Nothing was touched."
	}
	if !a.json {
		a.tell(render.Conflict(a.style(), edited, path))
	}
	return &problem{message: undoWords(edited.By, path), advice: advice, exit: exitCrux}
}

// undoWords says of an undo that met an edited file which one and by whom.
func undoWords(by int, path string) string {
	if by > 0 {
		return fmt.Sprintf("change %d edited %s since", by, path)
	}
	return path + " was edited since, and not by Unicrux"
}

// runTidy puts right what an earlier run left that was cut short, and says so. Where that does not work,
// what was asked for goes on all the same: most commands only read.
func runTidy(a *app) {
	words, err := a.station.Tidy()
	for _, sentence := range words {
		a.progress(sentence)
	}
	if err != nil {
		a.progress("Unicrux could not clean up after an earlier run: " + err.Error())
	}
}
