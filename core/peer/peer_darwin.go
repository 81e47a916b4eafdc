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

// Stopped is not known here.
func Stopped(int) bool { return false }
