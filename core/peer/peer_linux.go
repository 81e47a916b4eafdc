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

// Process tells which process is at the other end; 0 where that is not known.
func Process(fd int) int {
	credentials, err := syscall.GetsockoptUcred(fd, syscall.SOL_SOCKET, syscall.SO_PEERCRED)
	if err != nil {
		return 0
	}
	return int(credentials.Pid)
}
