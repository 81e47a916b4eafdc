package cli

import (
	"errors"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"anchorage.example/unicrux/core/agent"
	"anchorage.example/unicrux/core/chest"
	"anchorage.example/unicrux/core/desktop"
	"anchorage.example/unicrux/core/secret"
	"anchorage.example/unicrux/holder"
	"anchorage.example/unicrux/render"
)

func chestCommand(a *app) *cobra.Command {
	command := &cobra.Command{Use: "chest", Short: "The store for secrets: show, open, close, passphrase, move, adopt"}
	command.AddCommand(chestShow(a), chestOpen(a), chestClose(a), chestLock(a), chestMove(a), chestAdopt(a))
	return command
}

// chestOption is the option of every command that may have to open the chest. Where no key can be
// meant, --passphrase-from is the same.
func chestOption(command *cobra.Command, source *string) {
	const name = "chest-passphrase-from"
	flags := command.Flags()
	flags.Var(named(source, "FILE"), name, "read the chest's passphrase from FILE, or - for standard input")
	if flags.Lookup("passphrase-from") == nil {
		flags.SetNormalizeFunc(func(_ *pflag.FlagSet, given string) pflag.NormalizedName {
			if given == "passphrase-from" {
				given = name
			}
			return pflag.NormalizedName(given)
		})
	}
}

// newChest gives a chest that there is not yet its kind: the desktop's service where one answers,
// else sealed by a passphrase.
func newChest(a *app, c *chest.Chest, source string) error {
	if source == "" && desktop.Answers() {
		return c.SetKind(chest.Desktop)
	}
	a.progress("Secrets go into a chest, sealed by a passphrase that is asked once a working day.")
	return lockNew(a, c, source)
}

// lockNew gives a chest its first passphrase, and opens it: somebody has just typed that, and it
// shall be enough for the day.
func lockNew(a *app, c *chest.Chest, source string) error {
	text, err := a.newPassphraseFor("the chest", "--chest-passphrase-from", source)
	if err != nil {
		return err
	}
	key, err := c.Lock(a.ctx, secret.Text{}, text)
	if errors.Is(err, chest.ErrWrong) { // another program was faster, most likely with this one
		return unlockChest(a, c, text, agent.WorkingDay)
	}
	if err != nil {
		return err
	}
	if err := c.OpenWith(key); err != nil {
		return err
	}
	return handOver(a, c, key, agent.WorkingDay)
}

// readyForSecrets makes sure that secrets can be put into the chest. Nothing is opened for that.
func readyForSecrets(a *app, c *chest.Chest, source string) error {
	kind, err := c.Kind()
	if err == nil {
		err = c.Allows(kind)
	}
	if err != nil {
		return err
	}
	locked, err := c.Locked()
	list, listErr := c.List()
	if err := errors.Join(err, listErr); err != nil && !errors.Is(err, chest.ErrDamaged) {
		return err
	}
	switch {
	case kind == chest.Sealed && !locked && len(list) == 0:
		return newChest(a, c, source)
	case kind == chest.Memory:
		return startDoor(a, a.ctx)
	case kind == chest.Sealed && locked &&
		!c.Sealable(): // seen for the first time here: it is opened once, to see whose it is
		return openChest(a, c, source, agent.WorkingDay)
	}
	return nil
}

// openChest makes sure that secrets can be got out of the chest: it is open, or the passphrase
// is asked and the holder opens it for a working day.
func openChest(a *app, c *chest.Chest, source string, lifetime time.Duration) error {
	locked, err := c.Locked()
	if err != nil || !locked {
		return err
	}
	if _, open := c.OpenUntil(); open {
		return nil
	}
	return askAndUnlock(a, c, source, lifetime)
}

// askAndUnlock opens the chest by its passphrase, whether or not it is open: a person may try three
// times.
func askAndUnlock(a *app, c *chest.Chest, source string, lifetime time.Duration) error {
	if source != "" {
		passphrase, err := a.readSecret(source)
		if err != nil {
			return err
		}
		return unlockChest(a, c, passphrase, lifetime)
	}
	if !a.mayAsk() {
		return &problem{message: "the chest is closed, and there is no terminal to ask for its passphrase on",
			advice: "Give --chest-passphrase-from FILE, or open it before: unicrux chest open.", exit: exitAsk}
	}
	for try := 1; ; try++ {
		passphrase, err := a.askSecret("Passphrase of the chest (--chest-passphrase-from):")
		if err != nil {
			return err
		}
		if err = unlockChest(a, c, passphrase, lifetime); !errors.Is(err, chest.ErrWrong) || try == 3 {
			return err
		}
		a.progress("That does not open it. Once more:")
	}
}

// unlock opens the chest in the holder.
func unlockChest(a *app, c *chest.Chest, passphrase secret.Text, lifetime time.Duration) error {
	key, err := c.Open(a.ctx, passphrase)
	if err != nil {
		return err
	}
	return handOver(a, c, key, lifetime)
}

// handOver lets the holder keep the chest open.
func handOver(a *app, c *chest.Chest, key chest.MasterKey, lifetime time.Duration) error {
	if err := startDoor(a, a.ctx); err != nil { // then it is open for this process alone
		a.progress("Unicrux could not start the holder, so it will ask for the passphrase again: " + err.Error())
		return nil
	}
	return c.OpenInHolder(key, lifetime)
}

func chestShow(a *app) *cobra.Command {
	var aside bool
	command := &cobra.Command{
		Use: "show", Short: "Where secrets are, how many, and until when the chest is open",
		RunE: func(*cobra.Command, []string) error {
			if aside && !a.dry {
				moved, err := chest.Of(a.station).SetAside(a.station.Now())
				if err != nil {
					return err
				}
				for _, path := range moved {
					a.progress("Set aside: " + a.station.Tilde(path))
				}
			}
			view, err := chestView(a)
			if err != nil {
				return err
			}
			return a.show(render.Chest(a.style(), view), render.ChestDocument(view))
		},
	}
	command.Flags().BoolVar(&aside, "set-aside", false,
		"move files that are damaged out of the way; the others stay as they are")
	return command
}

func chestView(a *app) (render.ChestView, error) {
	c := chest.Of(a.station)
	view := render.ChestView{Folder: c.Folder(), Tilde: a.station.Tilde, Now: a.station.Now()}
	var err error
	if view.Entries, err = c.List(); err != nil && !errors.Is(err, chest.ErrDamaged) {
		return view, err
	}
	view.Damaged = errors.Is(err, chest.ErrDamaged)
	if view.Kind, err = c.Kind(); err != nil {
		return view, err
	}
	if view.Locked, err = c.Locked(); err != nil {
		return view, err
	}
	view.Until, view.Open = c.OpenUntil()
	return view, nil
}

func chestOpen(a *app) *cobra.Command {
	var source string
	var lifetime time.Duration
	command := &cobra.Command{
		Use: "open", Short: "Open the chest for a working day",
		RunE: func(*cobra.Command, []string) error {
			if lifetime < time.Second {
				return usage("--for accepts a time of at least a second, such as 8h")
			}
			c := chest.Of(a.station)
			locked, err := c.Locked()
			if err != nil {
				return err
			}
			if !locked {
				return sayDoneAs(a, "The chest needs no opening: nothing in it is sealed by a passphrase.")
			}
			if a.dry {
				return sayDoneAs(a, "Would open the chest.")
			}
			if err := askAndUnlock(a, c, source, lifetime); err != nil { // for the time that is wanted now
				return err
			}
			until, open := c.OpenUntil()
			if !open {
				return &problem{
					message: "the passphrase is right, but the chest stays closed: the holder does not run",
					advice:  "Fix the error above. Until then, git and Unicrux ask for the passphrase each time.",
					exit:    exitFailure,
				}
			}
			words := "The chest is open until " + until.Local().Format("15:04") +
				". unicrux chest close closes it before."
			return a.show(a.style().Sentences(words), render.DoneDocument(words, 0, until))
		},
	}
	lasts(command.Flags(), &lifetime, "for", agent.WorkingDay, "how long it stays open")
	chestOption(command, &source)
	return command
}

// sayDoneAs shows sentences as a whole result.
func sayDoneAs(a *app, words string) error {
	return a.show(a.style().Sentences(words), render.DoneDocument(words, 0, time.Time{}))
}

func chestClose(a *app) *cobra.Command {
	return &cobra.Command{
		Use: "close", Short: "Close the chest: its passphrase is asked again",
		RunE: func(*cobra.Command, []string) error {
			if err := runResponds(a, holder.StuckDoor(a.station.DoorSocket())); err != nil {
				return err
			}
			words := "The chest was not open."
			if a.dry {
				words = "Would close the chest."
			} else if chest.Of(a.station).Close() {
				words = "The chest is closed."
			}
			return sayDoneAs(a, words)
		},
	}
}

func chestLock(a *app) *cobra.Command {
	var source, fresh string
	command := &cobra.Command{
		Use: "passphrase", Short: "Give the chest a passphrase, or another one",
		RunE: func(*cobra.Command, []string) error {
			c := chest.Of(a.station)
			locked, err := c.Locked()
			if err != nil || a.dry {
				return errors.Join(err, sayDoneAs(a, "Would give the chest a passphrase."))
			}
			var old secret.Text
			switch {
			case !locked:
			case source != "":
				old, err = a.readSecret(source)
			case !a.mayAsk():
				err = &problem{message: "the old passphrase is needed, and there is no terminal to ask on",
					advice: "Give --chest-passphrase-from FILE.", exit: exitAsk}
			default:
				old, err = a.askSecret("The old passphrase of the chest (--chest-passphrase-from):")
			}
			if err != nil {
				return err
			}
			text, err := a.newPassphraseFor("the chest", "--new-passphrase-from", fresh)
			if err != nil {
				return err
			}
			if _, err := c.Lock(a.ctx, old, text); err != nil {
				return err
			}
			return sayDoneAs(a, "The chest has a new passphrase.")
		},
	}
	chestOption(command, &source)
	command.Flags().Var(named(&fresh, "FILE"), "new-passphrase-from",
		"read the new passphrase from FILE, or - for standard input")
	return command
}

func chestMove(a *app) *cobra.Command {
	var source string
	var to chest.Kind
	command := &cobra.Command{
		Use: "move --to KIND", Short: "Move every secret: sealed, desktop or memory",
		Long: `Moves every secret to another place, and lets new ones go there: sealed (files of ours, sealed
by a passphrase), desktop (the desktop's secret service), or memory (the holder alone: they
are gone when it ends). Each is read back from its new place before it leaves the old one.`,
		RunE: func(*cobra.Command, []string) error { return moveChest(a, to, source) },
	}
	command.Flags().Var(oneOf(&to, chest.Sealed, chest.Desktop, chest.Memory), "to", "where to store them")
	chestOption(command, &source)
	return command
}

func moveChest(a *app, to chest.Kind, source string) error {
	c := chest.Of(a.station)
	if to == "" {
		return usage("say where to: --to accepts sealed, desktop or memory")
	}
	if err := c.Allows(to); err != nil { // before anything is asked for
		return err
	}
	if a.dry {
		return sayDoneAs(a, "Would move every secret to "+string(to)+".")
	}
	if err := openChest(a, c, source, agent.WorkingDay); err != nil {
		return err
	}
	if locked, err := c.Locked(); err != nil {
		return err
	} else if to == chest.Sealed && !locked {
		if err := lockNew(a, c, source); err != nil {
			return err
		}
	}
	if to == chest.Memory {
		if err := startDoor(a, a.ctx); err != nil {
			return err
		}
	}
	moved, err := c.Move(to)
	if err != nil {
		return err
	}
	return sayDoneAs(a, render.Moved(a.style(), len(moved), to))
}
