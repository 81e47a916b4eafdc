package holder

import (
	"encoding/binary"
	"net"
	"sync/atomic"

	"Unicrux/core/query"
)

// mostAtDoor bounds an answer at the door: it fits into the connection, whether or not it is read.
const mostAtDoor = 8192

// atDoor answers a client that has said already what git wants to know: git waits for it, and to
// wake somebody else for the answer takes longer than to give it. Anybody else is let in, with what
// was heard.
func (h *holder) atDoor(conn net.Conn) (said []byte, answered bool) {
	said = heard(conn)
	name, question, whole := query.Read(said)
	if !whole || name != query.ForGit {
		return said, false
	}
	answer, err := h.keeper.Extension(name, question)
	if err != nil || len(answer) > mostAtDoor {
		return said, false
	}
	_, _ = conn.Write(query.Message(answer)) // who has left needs none
	return said, true
}

// A client is a connection that knows whether an answer is due on it, and sends each answer
// whole: whoever waits for it is woken once.
type client struct {
	net.Conn
	said []byte // what was heard of it already
	due  atomic.Bool
	part []byte // of an answer; used by the one who serves the client
}

func (c *client) Read(b []byte) (int, error) {
	n, err := copy(b, c.said), error(nil)
	if c.said = c.said[n:]; n == 0 {
		n, err = c.Conn.Read(b)
	}
	c.due.Store(n > 0)
	return n, err
}

// Write keeps a part of an answer until the rest follows: its length stands in front of it
// (draft-ietf-sshm-ssh-agent, section 3).
func (c *client) Write(b []byte) (int, error) {
	c.part = append(c.part, b...)
	if len(c.part) < 4 || uint64(len(c.part)-4) < uint64(binary.BigEndian.Uint32(c.part)) {
		return len(b), nil
	}
	defer c.due.Store(false)
	_, err := c.Conn.Write(c.part)
	c.part = c.part[:0]
	return len(b), err
}
