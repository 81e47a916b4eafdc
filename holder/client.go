package holder

import (
	"encoding/binary"
	"errors"
	"net"
	"sync/atomic"
	"time"

	"anchorage.example/unicrux/core/query"
)

// mostAtDoor bounds an answer at the door: it fits into the connection, whether or not it is read.
const mostAtDoor = 8192

// errTooLong ends the conversation with a client whose message is longer than any that there is.
var errTooLong = errors.New("the message is too long for the holder")

// A client is a connection that knows whether an answer is due on it, takes no message that is too
// long, and sends each answer whole: whoever waits for it is woken once. On both sockets a length
// stands in front of each message (draft-ietf-sshm-ssh-agent, section 3).
type client struct {
	net.Conn
	said []byte // what was heard of it already
	due  atomic.Bool
	last atomic.Int64 // when it last said something, in nanoseconds of Unix time

	header []byte // of the message that is being read, up to four bytes
	body   int    // how much of it is to come
	part   []byte // of an answer; used by the one who serves the client
}

func newClient(conn net.Conn, said []byte) *client {
	c := &client{Conn: conn, said: said}
	c.last.Store(time.Now().UnixNano())
	return c
}

func (c *client) Read(b []byte) (int, error) {
	n, err := copy(b, c.said), error(nil)
	if c.said = c.said[n:]; n == 0 {
		n, err = c.Conn.Read(b)
	}
	c.due.Store(n > 0)
	c.last.Store(time.Now().UnixNano())
	if !c.follow(b[:n]) {
		return 0, errTooLong
	}
	return n, err
}

// follow goes through what is read, message after message; false when one is too long.
func (c *client) follow(read []byte) bool {
	for len(read) > 0 {
		if c.body > 0 {
			n := min(c.body, len(read))
			c.body, read = c.body-n, read[n:]
			continue
		}
		n := min(4-len(c.header), len(read))
		c.header, read = append(c.header, read[:n]...), read[n:]
		if len(c.header) == 4 {
			length := binary.BigEndian.Uint32(c.header)
			if length > query.MaxMessage {
				return false
			}
			c.header, c.body = c.header[:0], int(length)
		}
	}
	return true
}

// Write keeps a part of an answer until the rest follows.
func (c *client) Write(b []byte) (int, error) {
	c.part = append(c.part, b...)
	if len(c.part) < 4 || uint64(len(c.part)-4) < uint64(binary.BigEndian.Uint32(c.part)) {
		return len(b), nil
	}
	defer c.due.Store(false)
	_, err := c.Conn.Write(c.part)
	clear(c.part)
	c.part = c.part[:0]
	return len(b), err
}
