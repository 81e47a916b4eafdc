package peer

import "golang.org/x/sys/unix"

// User tells which user is at the other end of a connected socket (LOCAL_PEERCRED, unix(4)).
func User(fd int) (uid int, err error) {
	credentials, err := unix.GetsockoptXucred(fd, unix.SOL_LOCAL, unix.LOCAL_PEERCRED)
	if err != nil {
		return -1, err
	}
	return int(credentials.Uid), nil
}

// Process tells which process is at the other end (LOCAL_PEERPID, unix(4)); 0 where that is not known.
func Process(fd int) int {
	const localPeerPID = 2
	pid, err := unix.GetsockoptInt(fd, unix.SOL_LOCAL, localPeerPID)
	if err != nil {
		return 0
	}
	return pid
}
