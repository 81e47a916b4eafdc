package holder

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"strings"
	"time"

	"anchorage.example/unicrux/core/agent"
	"anchorage.example/unicrux/core/query"
)

// ready is what a started holder writes to its output once it listens; anything else
// there is the reason why it does not.
const ready = "ready"

// AgentAnswers tells whether a holder serves a socket as an ssh agent.
func AgentAnswers(socket string) bool {
	conn, err := agent.OpenOwn(socket)
	if err != nil {
		return false
	}
	_, err = conn.Holdings()
	return errors.Join(err, conn.Close()) == nil
}

// Start makes sure that a holder runs, as answers tells: it starts line, a command line that calls
// [Serve] and [Report], in the background, and waits until it listens.
func Start(ctx context.Context, answers func() bool, environ []string, line ...string) error {
	if answers() {
		return nil
	}
	cmd := exec.Command(line[0], line[1:]...) // not of ctx: it outlives this process
	cmd.Env, cmd.Dir = environ, os.TempDir()  // it keeps no folder busy
	Detach(cmd)
	output, err := cmd.StdoutPipe()
	if err != nil {
		return err
	}
	if err := cmd.Start(); err != nil {
		return fmt.Errorf("starting the holder: %w", err)
	}
	answered := make(chan string, 1)
	go func() {
		text, _ := io.ReadAll(io.LimitReader(output, 4096)) // until it closes its output
		answered <- strings.TrimSpace(string(text))
	}()
	select {
	case <-ctx.Done():
		return errors.Join(ctx.Err(), cmd.Process.Kill(), cmd.Wait())
	case text := <-answered:
		if text != ready {
			_ = cmd.Wait() // its exit says no more than its words
			return fmt.Errorf("the holder does not start: %s", text)
		}
	}
	return errors.Join(output.Close(), cmd.Process.Release())
}

// Report tells the process that waits in [Start] how it went, and lets go of it.
func Report(out *os.File, err error) {
	text := ready
	if err != nil && !errors.Is(err, ErrRunning) {
		text = err.Error()
	}
	_, _ = out.WriteString(text + "\n") // whoever waited may have gone
	_ = out.Close()
}

// StopAgent makes the holder that is an ssh agent forget everything, and waits for its end. It tells
// whether there was one.
func StopAgent(ctx context.Context, socket string) (ran bool, err error) {
	conn, err := agent.OpenOwn(socket)
	if err != nil {
		return false, nil
	}
	defer conn.Close() // the holder has closed its end
	if _, err := conn.Holdings(); err != nil {
		return false, fmt.Errorf("at %s is %w", socket, err)
	}
	if err := conn.UnloadAll(); err != nil {
		return true, err
	}
	return true, untilGone(ctx, func() bool { _, err := conn.Holdings(); return err == nil })
}

// StopDoor does the same to the holder that answers about the chest.
func StopDoor(ctx context.Context, socket string) (ran bool, err error) {
	if _, err := query.Holder(socket, forgetQuestion, nil); err != nil {
		return false, nil
	}
	return true, untilGone(ctx, func() bool { return DoorAnswers(socket) })
}

// untilGone waits until nobody answers any more.
func untilGone(ctx context.Context, answers func() bool) error {
	for answers() {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Millisecond):
		}
	}
	return nil
}
