//go:build !windows

package holder

import (
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"os/exec"
	"syscall"

	"anchorage.example/unicrux/core/disk"
	"anchorage.example/unicrux/core/peer"
)

// ownerOnly tells that permissions say who may enter a folder.
const ownerOnly = true

// maxSocketPath is what fits into the address of a socket on every platform
// (sun_path has 104 bytes on some, the last of them 0).
const maxSocketPath = 103

func lockPath(socket string) string { return socket + ".lock" }

// listen makes the socket anew. The caller holds the lock, so one that is there is stale.
func listen(socket string) (net.Listener, error) {
	if len(socket) > maxSocketPath {
		return nil, fmt.Errorf("%s: the path of a socket has at most %d bytes, and this one has %d", socket,
			maxSocketPath, len(socket))
	}
	if err := disk.Remove(socket); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	listener, err := net.Listen("unix", socket) // its folder keeps everybody else away from the first instant
	if err != nil {
		return nil, err
	}
	if err := disk.Chmod(socket, 0o600); err != nil {
		return nil, errors.Join(err, listener.Close())
	}
	return listener, nil
}

// listensAt tells whether the socket is still there: it goes away with the runtime folder
// at the end of the login.
func listensAt(socket string) bool {
	_, err := os.Stat(socket)
	return err == nil
}

func isMine(info fs.FileInfo) bool {
	owner, ok := info.Sys().(*syscall.Stat_t)
	return ok && int(owner.Uid) == os.Geteuid()
}

// Detach gives the process a session of its own, so that it survives the terminal.
func Detach(cmd *exec.Cmd) { cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true} }

// noFollow keeps a lock file from being led elsewhere by a link.
const noFollow = syscall.O_NOFOLLOW

// fromSelf tells whether the other end of a connection is this very user. Not even root is
// served: a command run by sudo would sign in as somebody else than it should.
func fromSelf(conn net.Conn) bool {
	socket, ok := conn.(*net.UnixConn)
	return ok && peer.SelfAt(socket)
}

// Listens tells whether anybody of this user's listens at a socket.
func Listens(socket string) bool {
	conn, err := net.Dial("unix", socket)
	if err != nil {
		return false
	}
	defer conn.Close() // nothing was said
	return fromSelf(conn)
}

// mostHeard is what is read at once: the whole of any usual question.
const mostHeard = 8192

// peek reads what has come on a connection already, and waits for nothing.
func peek(conn net.Conn) []byte {
	socket, ok := conn.(*net.UnixConn)
	if !ok {
		return nil
	}
	raw, err := socket.SyscallConn()
	if err != nil {
		return nil
	}
	said, n := make([]byte, mostHeard), 0
	if err := raw.Read(func(fd uintptr) bool {
		n, _ = syscall.Read(int(fd), said) // what is wrong with it shows when it is waited for
		return true
	}); err != nil {
		return nil
	}
	return said[:max(n, 0)]
}
