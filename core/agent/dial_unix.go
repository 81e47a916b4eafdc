//go:build !windows

package agent

import (
	"net"

	"anchorage.example/unicrux/core/peer"
)

func dial(socket string) (net.Conn, error) { return net.DialTimeout("unix", socket, patience) }

// ownProcess tells whether this very user is at the other end.
func ownProcess(conn net.Conn) bool {
	socket, ok := conn.(*net.UnixConn)
	return ok && peer.SelfAt(socket)
}

// isStopped tells whether the agent is a process that was stopped.
func isStopped(conn net.Conn) bool {
	socket, ok := conn.(*net.UnixConn)
	return ok && peer.StoppedAt(socket)
}

func ownSocket(socket string) error { return peer.Own(socket) }
