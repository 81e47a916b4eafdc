package holder

import (
	"errors"
	"fmt"
	"os"

	"anchorage.example/unicrux/core/agent"
	"anchorage.example/unicrux/core/query"
)

// A StuckError reports a holder that listens and does not respond: it was stopped, or is busy without
// end. It keeps its secrets until it exits.
type StuckError struct{ Socket string }

func (e *StuckError) Error() string { return fmt.Sprintf("at %s: %v", e.Socket, query.ErrStuck) }

// Unwrap returns [query.ErrStuck].
func (e *StuckError) Unwrap() error { return query.ErrStuck }

// StuckAgent returns a [StuckError] when the holder of keys runs and does not respond.
func StuckAgent(socket string) error {
	conn, err := agent.OpenOwn(socket)
	if err == nil {
		return conn.Close()
	}
	if errors.Is(err, os.ErrDeadlineExceeded) {
		return &StuckError{Socket: socket}
	}
	return nil
}

// StuckDoor returns a [StuckError] when the holder that opens the chest runs and does not respond.
func StuckDoor(socket string) error {
	if _, err := query.Holder(socket, aliveQuestion, nil); errors.Is(err, query.ErrStuck) {
		return &StuckError{Socket: socket}
	}
	return nil
}
