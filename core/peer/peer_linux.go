package peer

import "syscall"

// User tells which user is at the other end of a connected socket (SO_PEERCRED, unix(7)).
func User(fd int) (uid int, err error) {
	credentials, err := syscall.GetsockoptUcred(fd, syscall.SOL_SOCKET, syscall.SO_PEERCRED)
	if err != nil {
		return -1, err
	}
	return int(credentials.Uid), nil
}
