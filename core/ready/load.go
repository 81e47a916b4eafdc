package ready

import (
	"context"
	"errors"
	"slices"
	"time"

	"unicrux/core/address"
	"unicrux/core/agent"
	"unicrux/core/secret"
	"unicrux/core/sshkey"
	"unicrux/core/sshway"
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

// Lend lets one command sign in with a key whose passphrase was asked for the check before
// it: through an agent of our own that lives no longer than the command. It returns the
// environment for the command. Where an agent is in charge, that one is asked.
func (p Place) Lend(ctx context.Context, path string, ask sshway.Asker) (environ []string, done func() error, err error) {
	environ, done = p.Station.Environ, func() error { return nil }
	passage, err := p.prepare(ctx, address.Address{Scheme: "ssh", Host: "localhost"})
	if err != nil || passage.Client.Agent != "" {
		return environ, done, err
	}
	pair, err := sshkey.Load(path)
	if err != nil {
		return environ, done, err
	}
	passphrase, err := ask(pair.Name())
	if err != nil {
		return environ, done, err
	}
	private, err := pair.Raw(passphrase)
	if err != nil {
		return environ, done, err
	}
	socket, done, err := agent.Lend(agent.Loan{Private: private, Comment: path})
	return append(slices.Clone(environ), "SSH_AUTH_SOCK="+socket), done, err
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
