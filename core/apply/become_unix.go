//go:build unix

package apply

import (
	"os"
	"os/exec"
	"syscall"

	"anchorage.example/unicrux/core/identity"
)

// become lets a process run with somebody's rights from its first instruction on.
func become(command *exec.Cmd, who identity.Who) error {
	if who.UID == os.Geteuid() {
		return nil
	}
	if os.Geteuid() != 0 {
		return identity.ErrUnable
	}
	groups := []uint32{}
	for _, g := range who.Groups {
		groups = append(groups, uint32(g)) //nolint:gosec // a number of the kernel's
	}
	command.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uint32(who.UID),
		//nolint:gosec // so
		Gid: uint32(who.GID), Groups: groups}} //nolint:gosec // so
	return nil
}
