package agent

import (
	"errors"
	"net"
	"os"
	"path/filepath"

	"golang.org/x/crypto/ssh/agent"
)

// Lend holds one key for as long as a single command runs: an agent of our own on a private
// socket, for workstations where none is running. close ends it and removes the socket.
func Lend(loan Loan) (socket string, closeAgent func() error, err error) {
	keyring := agent.NewKeyring()
	if err := keyring.Add(agent.AddedKey{PrivateKey: loan.Private, Comment: loan.Comment}); err != nil {
		return "", nil, err
	}
	dir, err := os.MkdirTemp("", "unicrux-agent-") // for the owner alone from its first instant
	if err != nil {
		return "", nil, err
	}
	socket = filepath.Join(dir, "socket")
	listener, err := net.Listen("unix", socket)
	if err != nil {
		return "", nil, errors.Join(err, os.RemoveAll(dir))
	}
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			go func() {
				_ = agent.ServeAgent(keyring, conn) // ends when the client leaves
				_ = conn.Close()
			}()
		}
	}()
	return socket, func() error {
		return errors.Join(listener.Close(), os.RemoveAll(dir))
	}, nil
}
