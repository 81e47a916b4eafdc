package agent

import (
	"net"
	"os"
	"strings"
	"time"

	"anchorage.example/unicrux/core/peer"
)

// dial opens the platform's named pipe, or a socket of the kind that Windows has since 2018.
func dial(socket string) (net.Conn, error) {
	if !strings.HasPrefix(socket, `\\.\pipe\`) {
		return net.DialTimeout("unix", socket, patience)
	}
	f, err := peer.Dial(socket)
	if err != nil {
		return nil, err
	}
	return pipe{f}, nil
}

// A pipe is a named pipe as a connection. Its deadlines are those of the file.
type pipe struct{ *os.File }

func (pipe) LocalAddr() net.Addr           { return &net.UnixAddr{Net: "pipe"} }
func (p pipe) RemoteAddr() net.Addr        { return &net.UnixAddr{Net: "pipe", Name: p.Name()} }
func (p pipe) SetDeadline(time.Time) error { return nil } // not for blocking handles

// ownProcess is made sure of when a pipe is opened.
func ownProcess(net.Conn) bool { return true }

func ownSocket(string) error { return nil }

// isStopped is not known here.
func isStopped(net.Conn) bool { return false }
