package cli

import (
	"context"
	"errors"
	"fmt"
	"os"

	"github.com/spf13/cobra"

	"Unicrux/core/agent"
	"Unicrux/core/ready"
	"Unicrux/core/sshkey"
	"Unicrux/holder"
	"Unicrux/render"
)

func (a *app) holderCommand() *cobra.Command {
	command := &cobra.Command{Use: "holder", Short: "The process that holds what you unlocked"}
	command.AddCommand(a.holderStart(), a.holderStop(), a.holderShow())
	return command
}

func (a *app) holderStart() *cobra.Command {
	var stay bool
	var unlock string
	command := &cobra.Command{
		Use:   "start",
		Short: "Start the holder, unless it runs",
		Long: `Starts the holder in the background, unless it runs. It is started by itself when it is
needed, and ends by itself when it holds nothing.`,
		Args: takes(0, 0, ""),
		RunE: func(*cobra.Command, []string) error {
			if stay {
				return a.beHolder()
			}
			return a.startHolderFor(unlock)
		},
	}
	command.Flags().BoolVar(&stay, "stay", false, "be the holder in this very process, for those who watch over processes themselves")
	command.Flags().StringVar(&unlock, "unlock", "", "unlock this key by the passphrase that the desktop keeps, if it does")
	return command
}

// beHolder serves until the holder ends. Whoever started it waits for its first words.
func (a *app) beHolder() error {
	out, isFile := a.Out.(*os.File)
	if !isFile {
		return errors.New("the holder needs an output of its own")
	}
	err := holder.Serve(a.ctx, holder.Options{Socket: a.station.HolderSocket(), Now: a.station.Now, Vault: ready.NewDesk(a.station),
		Ready: func() { holder.Report(out, nil) }})
	if err != nil {
		holder.Report(out, err)
	}
	if errors.Is(err, holder.ErrRunning) {
		return nil
	}
	return err
}

// program is this very program, in full; empty when the system does not tell.
func (a *app) program() string {
	path, err := os.Executable()
	if err != nil {
		return ""
	}
	return path
}

func (a *app) startHolder(ctx context.Context) error {
	if a.program() == "" {
		return errors.New("where this program lies is not known, so the holder cannot be started")
	}
	ctx, cancel := context.WithTimeout(ctx, a.timeout)
	defer cancel()
	return holder.Start(ctx, a.station.HolderSocket(), a.Environ, a.program(), "holder", "start", "--stay")
}

func (a *app) startHolderFor(unlock string) error {
	ran := holder.Answers(a.station.HolderSocket())
	if a.dry {
		return a.show(a.style().Sentences("Would start the holder, unless it runs."), render.PlanDocument(nil))
	}
	if err := a.startHolder(a.ctx); err != nil {
		return err
	}
	if unlock != "" {
		if err := a.unlockFromDesktop(unlock); err != nil {
			return err
		}
	}
	words := "The holder runs. It ends by itself unless it is soon given a key: unicrux key load KEY."
	if ran {
		words = "The holder runs already."
	}
	if a.quiet && !a.json {
		return nil
	}
	return a.show(a.style().Sentences(words), render.HolderDocument(a.holderView(true), nil))
}

// unlockFromDesktop loads a key that the holder does not hold, if the desktop keeps its
// passphrase. ssh waits meanwhile, so nobody is asked here: ssh asks itself.
func (a *app) unlockFromDesktop(path string) error {
	pair, err := sshkey.Load(path)
	if err != nil || !pair.Locked {
		return err
	}
	place, err := a.place()
	if err != nil || place.Held(pair) {
		return err
	}
	passphrase, kept := place.KeptPassphrase(pair)
	if !kept {
		return nil
	}
	return place.HoldOnly(a.ctx, pair, passphrase)
}

func (a *app) holderStop() *cobra.Command {
	return &cobra.Command{
		Use: "stop", Short: "Make the holder forget everything and end", Args: takes(0, 0, ""),
		RunE: func(*cobra.Command, []string) error {
			if a.dry {
				return a.show(a.style().Sentences("Would make the holder forget everything and end."), render.PlanDocument(nil))
			}
			ctx, cancel := context.WithTimeout(a.ctx, a.timeout)
			defer cancel()
			ran, err := holder.Stop(ctx, a.station.HolderSocket())
			if err != nil {
				return err
			}
			words := "No holder runs."
			if ran {
				words = "The holder has forgotten everything and ended."
			}
			return a.show(a.style().Sentences(words), render.HolderDocument(a.holderView(false), nil))
		},
	}
}

func (a *app) holderShow() *cobra.Command {
	return &cobra.Command{
		Use: "show", Short: "Show what the holder holds, and until when", Args: takes(0, 0, ""),
		RunE: func(*cobra.Command, []string) error {
			socket := a.station.HolderSocket()
			conn, err := agent.Open(socket)
			if err != nil {
				return a.show(a.style().Sentences("No holder runs: nothing is held unlocked."), render.HolderDocument(a.holderView(false), nil))
			}
			holdings, err := conn.Holdings()
			if err := errors.Join(err, conn.Close()); err != nil {
				return fmt.Errorf("at %s is %w", socket, err)
			}
			return a.show(a.style().Holder(a.holderView(true), holdings), render.HolderDocument(a.holderView(true), holdings))
		},
	}
}

func (a *app) holderView(runs bool) render.HolderView {
	socket := a.station.HolderSocket()
	view := render.HolderView{Runs: runs, Socket: socket, Tilde: a.station.Tilde, Now: a.station.Now()}
	if runs {
		view.PID = holder.PID(socket)
	}
	return view
}
