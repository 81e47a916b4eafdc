//go:build !windows

package agent

import (
	"net"

	"Unicrux/core/peer"
)

func dial(socket string) (net.Conn, error) { return net.DialTimeout("unix", socket, patience) }

// ownProcess tells whether this very user is at the other end.
func ownProcess(conn net.Conn) bool {
	socket, ok := conn.(*net.UnixConn)
	if !ok {
		return false
	}
	raw, err := socket.SyscallConn()
	if err != nil {
		return false
	}
	own := false
	err = raw.Control(func(fd uintptr) { own = peer.Self(int(fd)) })
	return err == nil && own
}

func ownSocket(socket string) error { return peer.Own(socket) }
