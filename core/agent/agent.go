// Package agent speaks to the ssh agent that the ssh client would ask, and is one: [Keeper], of which
// the holder consists. Standards:
//
//	draft-ietf-sshm-ssh-agent, as golang.org/x/crypto/ssh/agent speaks it
//	[BIND] PROTOCOL.agent of the OpenSSH sources: session binding, destination constraints
package agent

import (
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"os"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"anchorage.example/unicrux/core/fault"
	"anchorage.example/unicrux/core/peer"
)

// MaxKeys bounds how many keys of an agent are looked at. A server hangs up long before.
const MaxKeys = 256

// patience bounds the wait for an agent's answer to one question. Signing is not bounded by
// it: some agents ask the person first.
const patience = 5 * time.Second

// ErrSilent is returned when the socket is there and what listens on it is no agent.
var ErrSilent = fault.New("agent-silent", fault.Refused, "does not answer as an ssh agent does")

// A Held key is one that the agent holds.
type Held struct {
	Public  ssh.PublicKey
	Comment string
	Signer  ssh.Signer // signs through the agent; ends with the connection
}

// A Conn is a connection to an agent.
type Conn struct {
	Socket string
	Keys   []Held
	conn   net.Conn
	client agent.ExtendedAgent // the only one on conn: each has a reader of its own
}

// Open connects to the agent at socket and lists its keys.
func Open(socket string) (*Conn, error) {
	return open(socket, func(net.Conn) error { return nil })
}

// OpenOwn connects to the holder: an agent that is this user's, at a socket in a folder that is closed
// to everybody else. The error wraps [peer.ErrStranger] where it is not, and nothing was said then.
func OpenOwn(socket string) (*Conn, error) {
	if err := ownSocket(socket); err != nil {
		return nil, fmt.Errorf("the agent at %s: %w", socket, err)
	}
	return open(socket, func(conn net.Conn) error {
		if !ownProcess(conn) {
			return peer.ErrStranger
		}
		return nil
	})
}

func open(socket string, check func(net.Conn) error) (*Conn, error) {
	conn, err := dial(socket)
	if err != nil {
		return nil, fmt.Errorf("the agent at %s: %w", socket, err)
	}
	c := &Conn{Socket: socket, conn: conn}
	if err = check(conn); err == nil && isStopped(conn) { // it would be waited for in vain
		err = os.ErrDeadlineExceeded
	}
	if err == nil {
		c.client = agent.NewClient(conn)
		err = c.list()
	}
	if err != nil {
		return nil, errors.Join(fmt.Errorf("the agent at %s: %w", socket, err), conn.Close())
	}
	return c, nil
}

func (c *Conn) list() error {
	if err := c.conn.SetDeadline(time.Now().Add(patience)); err != nil {
		return err
	}
	signers, err := c.client.Signers()
	if err != nil {
		return ErrSilent
	}
	for _, signer := range signers[:min(len(signers), MaxKeys)] {
		key := Held{Public: signer.PublicKey(), Signer: signer}
		if named, ok := signer.PublicKey().(*agent.Key); ok {
			key.Comment = named.Comment
			if plain, err := ssh.ParsePublicKey(named.Blob); err == nil {
				key.Public = plain
			}
		}
		c.Keys = append(c.Keys, key)
	}
	return c.conn.SetDeadline(time.Time{})
}

// ErrNotKeeper is returned for an agent that is not ours.
var ErrNotKeeper = errors.New("another agent, which does not report how long it holds a key")

// Holdings asks a keeper what it holds, and until when.
func (c *Conn) Holdings() ([]Holding, error) {
	if err := c.conn.SetDeadline(time.Now().Add(patience)); err != nil {
		return nil, err
	}
	answer, err := c.client.Extension(holdingsQuestion, nil)
	var holdings []Holding
	if err != nil || len(answer) < 1 || json.Unmarshal(answer[1:], &holdings) != nil {
		return nil, ErrNotKeeper
	}
	return holdings, c.conn.SetDeadline(time.Time{})
}

// UnloadAll takes every key out of the agent.
func (c *Conn) UnloadAll() error { return c.client.RemoveAll() }

// Close ends the connection; the signers of its keys end with it.
func (c *Conn) Close() error { return c.conn.Close() }

// A Loan is a private key that an agent is given to hold.
type Loan struct {
	Private  any // as golang.org/x/crypto/ssh.ParseRawPrivateKey returns it
	Comment  string
	Lifetime time.Duration // in whole seconds; 0 for as long as the agent runs
	Confirm  bool          // the agent asks the person each time
}

// Load gives a key to the agent, which must be this user's own process. The error wraps
// [peer.ErrStranger] where it is not.
func (c *Conn) Load(loan Loan) error {
	if !ownProcess(c.conn) {
		return fmt.Errorf("the agent at %s gets no key: %w", c.Socket, peer.ErrStranger)
	}
	err := c.client.Add(agent.AddedKey{PrivateKey: loan.Private, Comment: loan.Comment,
		LifetimeSecs: uint32(loan.Lifetime / time.Second), ConfirmBeforeUse: loan.Confirm})
	if err != nil {
		return fmt.Errorf("the agent at %s does not take the key: %w", c.Socket, err)
	}
	return nil
}

// Unload takes a key out of the agent.
func (c *Conn) Unload(key ssh.PublicKey) error {
	if err := c.client.Remove(key); err != nil {
		return fmt.Errorf("the agent at %s does not let go of the key: %w", c.Socket, err)
	}
	return nil
}
