package lifetime

import "golang.org/x/sys/unix"

const throughSleep = unix.CLOCK_BOOTTIME
