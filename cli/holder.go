package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"anchorage.example/unicrux/core/agent"
	"anchorage.example/unicrux/core/chest"
	"anchorage.example/unicrux/core/gitanswer"
	"anchorage.example/unicrux/core/keys"
	"anchorage.example/unicrux/core/lifetime"
	"anchorage.example/unicrux/core/memory"
	"anchorage.example/unicrux/core/renewal"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/holder"
	"anchorage.example/unicrux/render"
)

func holderCommand(a *app) *cobra.Command {
	command := &cobra.Command{Use: "holder", Short: "The process that holds unlocked keys: start, show, stop"}
	command.AddCommand(holderStart(a), holderStop(a), holderShow(a))
	return command
}

// What a holder holds, as --stay names it.
const (
	stayKeys  = "keys"
	stayChest = "chest"
)

func holderStart(a *app) *cobra.Command {
	var stay, unlock string
	command := &cobra.Command{
		Use:   "start",
		Short: "Start the holder, unless it runs",
		Long: `Starts the holder of keys in the background, unless it runs. It is started by itself when it is
needed, and ends by itself when it holds nothing. What opens the chest is held by a process of its
own, which unicrux chest open starts.`,
		RunE: func(*cobra.Command, []string) error {
			if stay != "" {
				return beHolder(a, stay)
			}
			return startHolderFor(a, unlock)
		},
	}
	command.Flags().Var(oneOf(&stay, stayKeys, stayChest), "stay",
		"run the holder of these in the foreground, for a service manager")
	command.Flags().Var(named(&unlock, "KEY"), "unlock",
		"unlock this key by the passphrase that the desktop keeps, if it does")
	return command
}

// beHolder serves until the holder ends. Whoever started it waits for its first words.
func beHolder(a *app, what string) error {
	out, isFile := a.Out.(*os.File)
	if !isFile {
		return errors.New("the holder needs an output of its own")
	}
	clock := lifetime.System(a.station.Now)
	o := holder.Options{Socket: a.station.HolderSocket(), Content: agent.NewKeeper(clock, asksEachTime(a)),
		Clock: clock, Ready: func() { holder.Report(out, nil) }}
	if what == stayChest {
		o.Socket, o.Content = a.station.DoorSocket(), holder.NewDoor(gitanswer.NewDesk(a.station, clock))
	}
	memory.Locked() // where the system allows it
	a.untilStopped = true
	err := holder.Serve(a.ctx, o)
	if err != nil {
		holder.Report(out, err)
	}
	if errors.Is(err, holder.ErrRunning) {
		return nil
	}
	return err
}

// asksEachTime asks the person by the program that ssh itself would start for that (SSH_ASKPASS in
// ssh-agent(1)); nil where there is none.
func asksEachTime(a *app) func(question string) bool {
	program := a.getenv("SSH_ASKPASS")
	if program == "" {
		return nil
	}
	return func(question string) bool {
		ctx, cancel := context.WithTimeout(a.ctx, askPatience)
		defer cancel()
		cmd := exec.CommandContext(ctx, program, question)
		cmd.Env = append(slices.Clone(a.Environ), "SSH_ASKPASS_PROMPT=confirm")
		return cmd.Run() == nil
	}
}

// askPatience bounds how long a person may take to allow the use of a key: ssh waits meanwhile.
const askPatience = 2 * time.Minute

// program is this very program, in full; empty when the system does not tell.
func (a *app) program() string {
	path, err := os.Executable()
	if err != nil {
		return ""
	}
	return path
}

// holderPatience bounds the wait for a holder to start: it is a matter of this computer, which may be busy, and not of
// the network.
const holderPatience = time.Minute

// startHolder makes sure that the holder of keys runs.
func (a *app) startHolder(ctx context.Context) error {
	return startProcess(a, ctx, func() bool { return holder.AgentAnswers(a.station.HolderSocket()) }, stayKeys)
}

// startDoor makes sure that the holder of what opens the chest runs.
func startDoor(a *app, ctx context.Context) error {
	return startProcess(a, ctx, func() bool { return holder.DoorAnswers(a.station.DoorSocket()) }, stayChest)
}

func startProcess(a *app, ctx context.Context, answers func() bool, what string) error {
	if a.program() == "" {
		return errors.New("the path of this program is not known, so the holder cannot be started")
	}
	ctx, cancel := context.WithTimeout(ctx, holderPatience)
	defer cancel()
	return holder.Start(ctx, answers, a.Environ, a.program(), "holder", "start", "--stay", what)
}

func startHolderFor(a *app, unlock string) error {
	ran := holder.AgentAnswers(a.station.HolderSocket())
	if a.dry {
		return a.show(a.style().Sentences("Would start the holder, unless it runs."), render.PlanDocument(nil))
	}
	if err := a.startHolder(a.ctx); err != nil {
		return err
	}
	if unlock != "" {
		if err := unlockFromDesktop(a, unlock); err != nil {
			return err
		}
	}
	words := "The holder runs. It exits soon unless a key is loaded: unicrux key load KEY."
	if ran {
		words = "The holder runs already."
	}
	if a.quiet && !a.json {
		return nil
	}
	return a.show(a.style().Sentences(words), render.HolderDocument(holderView(a, true), nil))
}

// unlockFromDesktop loads a key that the holder does not hold, if the desktop keeps its
// passphrase. ssh waits meanwhile, so nobody is asked here: ssh asks itself.
func unlockFromDesktop(a *app, path string) error {
	pair, err := sshkey.Load(path)
	if err != nil || !pair.Locked {
		return err
	}
	place, err := a.place()
	if err != nil || renewal.Held(place, pair) {
		return err
	}
	passphrase, kept := keys.KeptPassphrase(place, pair)
	if !kept {
		return nil
	}
	return keys.HoldOnly(a.ctx, place, pair, passphrase)
}

func holderStop(a *app) *cobra.Command {
	return &cobra.Command{
		Use: "stop", Short: "Make the holder forget everything and end",
		RunE: func(*cobra.Command, []string) error {
			if a.dry {
				return a.show(a.style().Sentences("Would make the holder forget everything and end."),
					render.PlanDocument(nil))
			}
			ctx, cancel := context.WithTimeout(a.ctx, a.timeout)
			defer cancel()
			ranKeys, err := holder.StopAgent(ctx, a.station.HolderSocket())
			ranChest, errChest := holder.StopDoor(ctx, a.station.DoorSocket())
			if err := errors.Join(err, errChest); err != nil {
				return err
			}
			if err := holdersRespond(a); err != nil {
				return err
			}
			words := "No holder runs."
			if ranKeys || ranChest {
				words = "The holder has forgotten everything and stopped."
			}
			return a.show(a.style().Sentences(words), render.HolderDocument(holderView(a, false), nil))
		},
	}
}

// holdersRespond fails when a holder runs and does not respond: what it holds is not known then.
func holdersRespond(a *app) error {
	return cmp.Or(runResponds(a, holder.StuckAgent(a.station.HolderSocket())),
		runResponds(a, holder.StuckDoor(a.station.DoorSocket())))
}

// runResponds turns a [holder.StuckError] into what to do about it.
func runResponds(a *app, err error) error {
	var stuck *holder.StuckError
	if !errors.As(err, &stuck) {
		return err
	}
	advice := "End the process that listens at " + a.station.Tilde(stuck.Socket) + "."
	if pid := holder.PID(stuck.Socket); pid > 1 { // 0 and 1 are nobody's holder
		advice = fmt.Sprintf("End it: kill -9 %d", pid)
	}
	return &problem{message: "the holder runs but does not respond, so it still has its secrets", advice: advice,
		exit: exitFailure}
}

func holderShow(a *app) *cobra.Command {
	return &cobra.Command{
		Use: "show", Short: "Show what the holder holds, and until when",
		RunE: func(*cobra.Command, []string) error {
			if err := holdersRespond(a); err != nil {
				return err
			}
			socket := a.station.HolderSocket()
			conn, err := agent.OpenOwn(socket)
			if err != nil {
				view, words := holderView(a, false), "No holder runs: nothing is held unlocked."
				if view.ChestUntil != nil {
					words = "No key is held unlocked."
				}
				return a.show(a.style().Sentences(words)+render.ChestHeld(a.style(), view),
					render.HolderDocument(view, nil))
			}
			holdings, err := conn.Holdings()
			if err := errors.Join(err, conn.Close()); err != nil {
				return fmt.Errorf("at %s is %w", socket, err)
			}
			view := holderView(a, true)
			return a.show(render.Holder(a.style(), view, holdings), render.HolderDocument(view, holdings))
		},
	}
}

func holderView(a *app, runs bool) render.HolderView {
	socket := a.station.HolderSocket()
	view := render.HolderView{Runs: runs, Socket: socket, Tilde: a.station.Tilde, Now: a.station.Now()}
	if runs {
		view.PID = holder.PID(socket)
	}
	if until, open := chest.Of(a.station).OpenUntil(); open {
		view.ChestUntil, view.ChestPID = &until, holder.PID(a.station.DoorSocket())
	}
	return view
}
