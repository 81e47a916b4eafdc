package peer

import (
	"os"
	"syscall"
)

// User tells which user is at the other end of a connected socket (SO_PEERCRED, unix(7)).
func User(fd int) (uid int, err error) {
	credentials, err := syscall.GetsockoptUcred(fd, syscall.SOL_SOCKET, syscall.SO_PEERCRED)
	if err != nil {
		return -1, err
	}
	return int(credentials.Uid), nil
}

// Stopped tells whether the process at the other end was stopped by a signal, so that it does not answer
// before it is let go on (proc(5), /proc/PID/stat). It is the one that began to listen (unix(7)).
func Stopped(fd int) bool {
	credentials, err := syscall.GetsockoptUcred(fd, syscall.SOL_SOCKET, syscall.SO_PEERCRED)
	if err != nil {
		return false
	}
	f, err := os.Open("/proc/" + decimal(int(credentials.Pid)) + "/stat")
	if err != nil {
		return false
	}
	defer f.Close() // opened for reading
	text := make([]byte, 512)
	n, _ := f.Read(text) // nothing read, nothing known
	for i := n - 1; i >= 0; i-- {
		if text[i] == ')' { // behind the name, which may hold anything
			return i+2 < n && (text[i+2] == 'T' || text[i+2] == 't')
		}
	}
	return false
}

// decimal writes a number. Package strconv comes later.
func decimal(n int) string {
	if n < 10 {
		return string(rune('0' + n))
	}
	return decimal(n/10) + string(rune('0'+n%10))
}
