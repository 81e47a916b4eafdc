//go:build !windows

package query

import (
	"io"
	"os"
	"syscall"
	"time"

	"anchorage.example/unicrux/core/peer"
)

// A conn is a connected socket. Package net would do, and takes longer to be ready than all the
// rest of what is needed to answer git.
type conn int

// dial connects to a socket of this user's, in a folder of theirs, that this user serves.
func dial(socket string) (io.ReadWriteCloser, error) {
	if err := peer.Own(socket); err != nil {
		return nil, err
	}
	syscall.ForkLock.RLock() // no program that we start meanwhile is to have it
	fd, err := syscall.Socket(syscall.AF_UNIX, syscall.SOCK_STREAM, 0)
	if err == nil {
		syscall.CloseOnExec(fd)
	}
	syscall.ForkLock.RUnlock()
	if err != nil {
		return nil, err
	}
	for _, wait := range []struct {
		option int
		long   time.Duration
	}{{syscall.SO_SNDTIMEO, patience}, {syscall.SO_RCVTIMEO, glance}} { // the first bounds connecting, too (socket(7))
		limit := syscall.NsecToTimeval(int64(wait.long))
		if err == nil {
			err = syscall.SetsockoptTimeval(fd, syscall.SOL_SOCKET, wait.option, &limit)
		}
	}
	if err == nil {
		err = again(func() error { return syscall.Connect(fd, &syscall.SockaddrUnix{Name: socket}) })
	}
	if err == nil && !peer.Self(fd) {
		err = peer.ErrStranger
	}
	if err != nil {
		_ = syscall.Close(fd) // nothing was said on it
		return nil, err
	}
	return conn(fd), nil
}

// again does what a signal interrupted once more: the runtime sends signals of its own.
func again(do func() error) error {
	for {
		if err := do(); err != syscall.EINTR {
			return err
		}
	}
}

func (c conn) Read(b []byte) (n int, err error) {
	for range patience / glance {
		err = again(func() (err error) { n, err = syscall.Read(int(c), b); return err })
		if err != syscall.EAGAIN || peer.Stopped(int(c)) {
			break
		}
	}
	if err == nil && n == 0 && len(b) > 0 {
		err = io.EOF
	}
	return max(n, 0), err
}

func (c conn) Write(b []byte) (int, error) {
	for done := 0; ; {
		n := 0
		err := again(func() (err error) { n, err = syscall.Write(int(c), b[done:]); return err })
		if done += max(n, 0); err != nil || done == len(b) {
			return done, err
		}
		if n == 0 {
			return done, io.ErrShortWrite
		}
	}
}

func (c conn) Close() error { return os.NewSyscallError("close", syscall.Close(int(c))) }
