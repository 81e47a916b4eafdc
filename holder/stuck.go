package holder

import (
	"errors"
	"fmt"
	"net"
	"os"
	"time"

	"Unicrux/core/agent"
	"Unicrux/core/query"
)

// A StuckError says that a holder listens and does not answer: it was stopped, or is busy with something
// without end. It goes on holding what it holds.
type StuckError struct {
	Socket  string
	Process int // its number; 0 where that is not known
}

func (e *StuckError) Error() string { return fmt.Sprintf("at %s: %v", e.Socket, query.ErrStuck) }

// Unwrap returns [query.ErrStuck].
func (e *StuckError) Unwrap() error { return query.ErrStuck }

// Stuck looks whether a holder that is there does not answer, at its socket as an ssh agent and at that
// for the chest. The error is a [StuckError].
func Stuck(agentSocket, doorSocket string) error {
	conn, err := agent.OpenOwn(agentSocket)
	if err == nil {
		err = conn.Close()
	}
	if errors.Is(err, os.ErrDeadlineExceeded) {
		return stuckAt(agentSocket)
	}
	if _, err := query.Holder(doorSocket, aliveQuestion, nil); errors.Is(err, query.ErrStuck) {
		return stuckAt(doorSocket)
	}
	return nil
}

func stuckAt(socket string) error {
	e := &StuckError{Socket: socket}
	conn, err := net.DialTimeout("unix", socket, time.Second)
	if err != nil { // nobody more gets in there
		return e
	}
	defer conn.Close() //nolint:errcheck // nothing was said on it
	e.Process = process(conn)
	return e
}
