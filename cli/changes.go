package cli

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"anchorage.example/unicrux/core/takeback"
	"anchorage.example/unicrux/core/untrusted"
	"anchorage.example/unicrux/core/workstation"
	"anchorage.example/unicrux/render"
)

func changesCommand(a *app) *cobra.Command {
	return &cobra.Command{
		Use: "changes [HOST]", Short: "What Unicrux has changed here and at hosts, newest first",
		RunE: func(_ *cobra.Command, args []string) error {
			all, err := a.station.Changes()
			if err == nil && len(args) == 1 {
				all, err = changesFor(a, all, args[0])
			}
			if err != nil {
				return err
			}
			return a.show(render.Changes(a.style(), all, a.station.Tilde, a.station.Now()), render.ChangesDocument(all))
		},
	}
}

// An undoing says what is to be taken back.
type undoing struct {
	secretOptions
	all bool
}

func undoCommand(a *app) *cobra.Command {
	var o undoing
	command := &cobra.Command{
		Use:   "undo [CHANGE|HOST]",
		Short: "Take a change back, or all that was done for a host",
		Long: `Takes a change back, the newest one when none is named: each file loses the lines that the
change added and gets back those that it removed, and what was registered with a host is
withdrawn. Lines that somebody else has added since stay. Where the very lines of the change
were edited since, nothing is touched and both versions are shown.

With a host every change for it and its accounts is taken back, with --all every change, from
the newest on; those that cannot be are passed over, and undo says which. --dry-run shows all
of it beforehand. A private key is never deleted: it is set aside, and undo says where. What a
host has created stays there.`,
		RunE: func(_ *cobra.Command, args []string) error { return runUndo(a, &o, args) },
	}
	command.Flags().BoolVar(&o.all, "all", false, "take back all that can be")
	o.addToken(command)
	return command
}

func runUndo(a *app, o *undoing, args []string) error {
	id := 0
	if len(args) == 1 {
		id, _ = strconv.Atoi(args[0])
		if o.all || id < 1 && strings.Trim(args[0], "-0123456789") == "" {
			return usage("undo needs the number of one change, a host, or --all, and got %s",
				untrusted.Quote(untrusted.Clean(args[0])))
		}
	}
	standing, err := a.station.Standing()
	if err == nil && len(args) == 1 && id == 0 {
		standing, err = standingFor(a, standing, args[0])
	}
	if err != nil {
		return err
	}
	switch {
	case id == 0 && len(standing) == 0:
		return sayDoneAs(a, "Nothing is left to take back.")
	case o.all, len(args) == 1 && id == 0:
		return undoAll(a, o, standing)
	}
	undone, differences, err := undoOne(a, o, id)
	if err != nil {
		return refuseUndo(a, err, id, standing)
	}
	if a.dry {
		return a.show(render.UndoPlan(a.style(), differences, a.station.Tilde), render.PlanDocument(differences))
	}
	return a.show(render.Undone(a.style(), undone, a.station.Tilde), render.UndoneDocument(undone))
}

// standingFor are those of the changes that are for a host.
func standingFor(a *app, standing []int, host string) ([]int, error) {
	all, err := a.station.Changes()
	if err == nil {
		all, err = changesFor(a, all, host)
	}
	if err != nil {
		return nil, err
	}
	return slices.DeleteFunc(standing, func(id int) bool {
		return !slices.ContainsFunc(all, func(c workstation.Change) bool { return c.ID == id })
	}), nil
}

// changesFor are the changes that are for a host, also one that was forgotten since. A host that there is not, and for
// which nothing was changed, is an error.
func changesFor(a *app, all []workstation.Change, host string) ([]workstation.Change, error) {
	names := []string{host}
	_, d, unknown := a.host(host)
	if unknown == nil {
		names = append(names, d.Name, d.HostName())
	}
	var list []workstation.Change
	for _, change := range all {
		if change.Concerns(names...) {
			list = append(list, change)
		}
	}
	if len(list) == 0 && unknown != nil {
		return nil, unknown
	}
	return list, nil
}

// undoOne takes one change back, the newest where id is 0.
func undoOne(a *app, o *undoing, id int) (*workstation.Undone, []workstation.Difference, error) {
	place, err := a.place()
	if err != nil {
		return nil, nil, err
	}
	secrets := a.secrets(&o.secretOptions)
	return a.station.Undo(id, a.dry, func(step workstation.HostStep) error {
		return takeback.Step(a.ctx, place, step, secrets.Token)
	})
}

// undoAll takes back every change, from the newest on, and passes over those that cannot be.
func undoAll(a *app, o *undoing, standing []int) error {
	if a.dry {
		return rehearseAll(a, standing)
	}
	var done, passed []int
	for _, id := range standing {
		undone, _, err := undoOne(a, o, id)
		var edited *workstation.EditedError
		switch {
		case errors.As(err, &edited), errors.Is(err, workstation.ErrSecret):
			passed = append(passed, id)
			a.progress(fmt.Sprintf("Passed over: change %d. %s.", id, cannotUndo(a, err)))
		case err != nil:
			return err
		default:
			done = append(done, id)
			if !a.json {
				_ = a.print(render.Undone(a.style(), undone, a.station.Tilde)) // what is done counts, whoever reads it
			}
		}
	}
	words := fmt.Sprintf("Taken back: %d of %d changes.", len(done), len(standing))
	return a.show(a.style().Sentences(words), render.UndoneAllDocument(done, passed))
}

// rehearseAll shows what taking changes back would do, and which of them would be passed over.
func rehearseAll(a *app, standing []int) error {
	list, err := a.station.Rehearse(standing)
	if err != nil {
		return err
	}
	var differences []workstation.Difference
	done := 0
	for _, foreseen := range list {
		if foreseen.Err != nil {
			a.progress(fmt.Sprintf("Would pass over change %d. %s.", foreseen.ID, cannotUndo(a, foreseen.Err)))
			continue
		}
		differences, done = append(differences, foreseen.Differences...), done+1
	}
	words := fmt.Sprintf("Would take back %d of %d changes.", done, len(standing))
	return a.show(render.UndoPlan(a.style(), differences, a.station.Tilde)+"\n"+a.style().Sentences(words),
		render.PlanDocument(differences))
}

// cannotUndo says why a change cannot be taken back.
func cannotUndo(a *app, err error) string {
	var edited *workstation.EditedError
	if errors.As(err, &edited) {
		return capitalWords(undoWords(edited.By, a.station.Tilde(edited.Path)))
	}
	return capitalWords(err.Error())
}

// refuseUndo says why a change stays, shows both versions of a file that was edited since, and names the newest change
// before it that can be taken back: it is not taken in its place, since nobody asked for it.
func refuseUndo(a *app, err error, id int, standing []int) error {
	if id == 0 {
		id = standing[0]
	}
	advice := ""
	if next := a.station.MayUndo(id); next > 0 {
		advice = fmt.Sprintf(" The change before it that can be taken back: unicrux undo %d.", next)
	}
	var edited *workstation.EditedError
	switch {
	case errors.Is(err, workstation.ErrSecret):
		return &problem{
			message: err.Error(),
			advice:  strings.TrimSpace("Nothing was touched." + advice),
			exit:    exitCrux,
		}
	case !errors.As(err, &edited):
		return err
	}
	path := a.station.Tilde(edited.Path)
	first := "Remove your edit, or correct the file yourself. Nothing was touched."
	if edited.By > 0 {
		first, advice = "Take that change back first: unicrux undo "+strconv.Itoa(
			edited.By,
		)+". Nothing was touched.", ""
	}
	if !a.json {
		a.tell(render.Conflict(a.errStyle(), edited, path))
	}
	return &problem{message: undoWords(edited.By, path), advice: first + advice, exit: exitCrux}
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
