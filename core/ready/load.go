package ready

import (
	"context"
	"errors"
	"time"

	"unicrux/core/address"
	"unicrux/core/agent"
	"unicrux/core/secret"
	"unicrux/core/sshkey"
)

// ErrNoAgent is returned when ssh would ask no agent.
var ErrNoAgent = errors.New("there is no agent that ssh would ask")

// Load unlocks a key and gives it to the agent that ssh will ask, for a time.
func (p Place) Load(ctx context.Context, pair *sshkey.Pair, passphrase secret.Text, lifetime time.Duration) (socket string, err error) {
	private, err := pair.Raw(passphrase)
	if err != nil {
		return "", err
	}
	return p.withAgent(ctx, func(conn *agent.Conn) error {
		return conn.Load(agent.Loan{Private: private, Comment: pair.Path, Lifetime: lifetime})
	})
}

// Unload takes a key out of the agent that ssh will ask.
func (p Place) Unload(ctx context.Context, pair *sshkey.Pair) (socket string, err error) {
	return p.withAgent(ctx, func(conn *agent.Conn) error { return conn.Unload(pair.Public) })
}

// withAgent speaks to the agent that ssh would ask for a host without settings of its own.
func (p Place) withAgent(ctx context.Context, speak func(*agent.Conn) error) (socket string, err error) {
	passage, err := p.prepare(ctx, address.Address{Scheme: "ssh", Host: "localhost"})
	if err != nil {
		return "", err
	}
	socket = passage.Client.Agent
	if err := passage.Close(); err != nil {
		return socket, err
	}
	if socket == "" {
		return "", ErrNoAgent
	}
	conn, err := agent.Open(socket)
	if err != nil {
		return socket, err
	}
	return socket, errors.Join(speak(conn), conn.Close())
}
