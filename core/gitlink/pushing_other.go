//go:build !linux

package gitlink

// Pushing tells whether this process works for a git push. Only Linux lets it be seen.
func Pushing() bool { return false }
