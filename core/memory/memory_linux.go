package memory

import "syscall"

// Private lets no other process of this user look into this one, and no crash write it to a file
// (PR_SET_DUMPABLE, prctl(2)). A kernel that cannot has nothing to offer instead.
func Private() {
	_, _, _ = syscall.RawSyscall(syscall.SYS_PRCTL, syscall.PR_SET_DUMPABLE, 0, 0)
}

// The flags of mlockall(2), which package syscall does not have: lock what is touched, now and later.
const lockAll = 1 | 2 | 4 // MCL_CURRENT, MCL_FUTURE, MCL_ONFAULT

// rlimitMemlock is RLIMIT_MEMLOCK of getrlimit(2), and unlimited its RLIM_INFINITY.
const (
	rlimitMemlock = 8
	unlimited     = ^uint64(0)
)

// Locked keeps this process out of the swap, and tells whether it could. Only a process without a
// limit to its locked memory is: one that hits the limit later would end.
func Locked() bool {
	var limit syscall.Rlimit
	if syscall.Getrlimit(rlimitMemlock, &limit) != nil || limit.Max != unlimited && syscall.Geteuid() != 0 {
		return false
	}
	_ = syscall.Setrlimit(rlimitMemlock, &syscall.Rlimit{Cur: limit.Max, Max: limit.Max}) // else as it is
	_, _, failed := syscall.RawSyscall(syscall.SYS_MLOCKALL, lockAll, 0, 0)
	return failed == 0
}
