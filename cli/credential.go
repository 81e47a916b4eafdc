package cli

import (
	"bytes"
	"context"
	"errors"
	"io"
	"os"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"anchorage.example/unicrux/core/agent"
	"anchorage.example/unicrux/core/chest"
	"anchorage.example/unicrux/core/gitanswer"
	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/query"
	"anchorage.example/unicrux/core/tokens"
	"anchorage.example/unicrux/holder"
	"anchorage.example/unicrux/render"
)

// forGitCredential is a credential helper of git's (gitcredentials(7), CUSTOM HELPERS).
func forGitCredential(a *app) *cobra.Command {
	return &cobra.Command{
		Use: "credential get|store|erase", Short: "Answer git's questions for credentials",
		RunE: func(_ *cobra.Command, args []string) error { return runCredential(a, args[0]) },
	}
}

// runCredential answers one question of git's. [Run] comes here without reading the command line
// any further.
func runCredential(a *app, question string) (err error) {
	if a.station == nil {
		if a.station, err = a.here(); err != nil {
			return err
		}
	}
	asked, err := gitlink.ReadCredential(io.MultiReader(bytes.NewReader(a.Read), a.In))
	if err != nil {
		return err
	}
	switch question {
	case "get":
		return answerGit(a, asked)
	case "store":
		return storeForGit(a, asked)
	case "erase":
		return eraseForGit(a, asked)
	}
	return nil // what git will say one day is no error (gitcredentials(7))
}

// answerGit answers, or says nothing, so that git asks the next helper.
func answerGit(a *app, asked gitlink.Asked) error {
	c := chest.Of(a.station)
	answer, err := gitanswer.Answer(a.ctx, c, asked, a.place)
	if errors.Is(err, query.ErrStuck) {
		a.progressText(render.Saying(a.errStyle(), stuckSaying(a)))
		return nil
	}
	if errors.Is(err, chest.ErrClosed) && openForGit(a, c) {
		answer, err = gitanswer.Answer(a.ctx, c, asked, a.place)
	}
	a.progressText(render.Saying(a.errStyle(), answer.Said))
	if answer.Soon != nil {
		a.progressText(render.Foresight(a.errStyle(), *answer.Soon, a.station.Now()))
	}
	if errors.Is(err, chest.ErrClosed) {
		a.progressText(render.Saying(a.errStyle(),
			gitanswer.Saying{Message: "The chest is closed. To open it for a working day:",
				Command: []string{"unicrux", "chest", "open"}}))
		return nil
	}
	if err == nil {
		_, err = a.Out.Write(answer.Text)
	}
	return err
}

// stuckSaying names the command that ends the holder of the chest, where its process is known: "kill -9 0"
// would end whoever types it (kill(1)).
func stuckSaying(a *app) gitanswer.Saying {
	const words = "The holder runs but does not respond, so git does not get its token."
	pid := holder.PID(a.station.DoorSocket())
	if pid <= 1 {
		return gitanswer.Saying{Message: words + " Unicrux does not know its process. To see more:",
			Command: []string{"unicrux", "holder", "show"}}
	}
	return gitanswer.Saying{Message: words + " To end it:", Command: []string{"kill", "-9", strconv.Itoa(pid)}}
}

// openForGit asks for the chest's passphrase on the terminal, which git has left free, and opens
// the chest for a working day. A program without a terminal, or one that said that nobody is
// there, is not asked.
func openForGit(a *app, c *chest.Chest) bool {
	if a.noInput || a.station.Getenv("GIT_TERMINAL_PROMPT") == "0" {
		return false
	}
	terminal, err := os.OpenFile(terminalName, os.O_RDWR, 0)
	if err != nil {
		return false
	}
	defer terminal.Close() // nothing is left to be written
	before := a.In
	defer func() { a.In, a.asked = before, nil }()
	a.In, a.asked = terminal, nil
	return openChest(a, c, "", agent.WorkingDay) == nil
}

func storeForGit(a *app, asked gitlink.Asked) error {
	place, err := a.place()
	if err != nil {
		return err
	}
	err = gitanswer.Proved(place, tokens.Chest(place), asked)
	if errors.Is(err, chest.ErrClosed) || errors.Is(err, chest.ErrNoChest) {
		return nil // git got through; that is not the moment to ask for anything
	}
	return err
}

func eraseForGit(a *app, asked gitlink.Asked) error {
	place, err := a.place()
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(a.ctx, 10*time.Second)
	defer cancel()
	said, err := gitanswer.Refused(ctx, place, tokens.Chest(place), asked)
	a.tell(render.Saying(a.errStyle(), said))
	return err
}
