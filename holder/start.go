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

	"Unicrux/core/agent"
)

// ready is what a started holder writes to its output once it listens; anything else
// there is the reason why it does not.
const ready = "ready"

// Start makes sure that a holder serves socket: it starts line, a command line that calls
// [Serve] and [Report], in the background, and waits until it listens.
func Start(ctx context.Context, socket string, environ []string, line ...string) error {
	if Answers(socket) {
		return nil
	}
	cmd := exec.Command(line[0], line[1:]...) // not of ctx: it outlives this process
	cmd.Env, cmd.Dir = environ, os.TempDir()  // it keeps no folder busy
	detach(cmd)
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

// Stop makes the holder forget everything and waits for its end. It tells whether there
// was one.
func Stop(ctx context.Context, socket string) (ran bool, err error) {
	conn, err := agent.Open(socket)
	if err != nil {
		return false, nil
	}
	defer conn.Close() //nolint:errcheck // the holder has closed its end
	if _, err := conn.Holdings(); err != nil {
		return false, fmt.Errorf("at %s is %w", socket, err)
	}
	if err := conn.UnloadAll(); err != nil {
		return true, err
	}
	for err == nil { // until it hangs up
		if _, gone := conn.Holdings(); gone != nil {
			return true, nil
		}
		select {
		case <-ctx.Done():
			err = ctx.Err()
		case <-time.After(time.Millisecond):
		}
	}
	return true, err
}
