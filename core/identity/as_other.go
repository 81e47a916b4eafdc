//go:build !linux

package identity

import "os"

func as(who Who, do func()) error {
	if who.UID != os.Geteuid() {
		return ErrUnable
	}
	do()
	return nil
}
