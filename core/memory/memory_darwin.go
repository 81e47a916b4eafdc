package memory

import "syscall"

// Private lets no crash write this process to a file. The system itself keeps other programs out of
// a process that is not made for debugging.
func Private() { _ = syscall.Setrlimit(syscall.RLIMIT_CORE, &syscall.Rlimit{}) } // nothing else could be done

// Locked is always false: the system encrypts its swap, and locks nothing as a whole.
func Locked() bool { return false }
