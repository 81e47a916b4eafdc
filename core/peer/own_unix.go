//go:build !windows

package peer

import (
	"os"
	"syscall"
)

// Own makes sure that a socket is this user's, in a folder of theirs that is closed to everybody
// else. Links are not followed. The error is [ErrStranger], or that of the file system.
func Own(socket string) error {
	end := len(socket) - 1
	for end > 0 && socket[end] != '/' {
		end--
	}
	folder, err := os.Lstat(socket[:max(end, 1)])
	if err != nil {
		return err
	}
	if !folder.IsDir() || folder.Mode().Perm()&0o077 != 0 || !mine(folder) {
		return ErrStranger
	}
	info, err := os.Lstat(socket)
	if err != nil {
		return err
	}
	if info.Mode().Type() != os.ModeSocket || !mine(info) {
		return ErrStranger
	}
	return nil
}

func mine(info os.FileInfo) bool {
	owner, ok := info.Sys().(*syscall.Stat_t)
	return ok && int(owner.Uid) == os.Geteuid()
}

// SelfAt is [Self] for whoever has a connection of package net.
func SelfAt(conn syscall.Conn) bool { return askAt(conn, Self) }

// StoppedAt is [Stopped] for whoever has a connection of package net.
func StoppedAt(conn syscall.Conn) bool { return askAt(conn, Stopped) }

func askAt(conn syscall.Conn, ask func(fd int) bool) bool {
	raw, err := conn.SyscallConn()
	if err != nil {
		return false
	}
	answer := false
	err = raw.Control(func(fd uintptr) { answer = ask(int(fd)) })
	return err == nil && answer
}

// Self tells whether this very user is at the other end of a connected socket.
func Self(fd int) bool {
	uid, err := User(fd)
	return err == nil && uid == os.Geteuid()
}
