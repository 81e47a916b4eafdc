//go:build !windows

package holder

import (
	"net"

	"Unicrux/core/peer"
)

// process is the number of the process at the other end; 0 where that is not known.
func process(conn net.Conn) (pid int) {
	socket, ok := conn.(*net.UnixConn)
	if !ok {
		return 0
	}
	raw, err := socket.SyscallConn()
	if err == nil {
		err = raw.Control(func(fd uintptr) { pid = peer.Process(int(fd)) })
	}
	if err != nil {
		return 0
	}
	return pid
}
