//go:build !linux

package gitlink

import "os/exec"

// endWithUs does nothing: this system has no such thing. What git makes then is in a folder of its own.
func endWithUs(*exec.Cmd) {}
