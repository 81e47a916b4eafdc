package memory

// Private does nothing: only administrators and this user's own debuggers may look into a process.
func Private() {}

// Locked is always false.
func Locked() bool { return false }
