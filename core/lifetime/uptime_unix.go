//go:build !windows

package lifetime

import (
	"time"

	"golang.org/x/sys/unix"
)

// uptime reads the clock that goes on in sleep (CLOCK_BOOTTIME in clock_gettime(2) of Linux;
// CLOCK_MONOTONIC in that of macOS).
func uptime() time.Duration {
	var t unix.Timespec
	if err := unix.ClockGettime(throughSleep, &t); err != nil {
		return 0 // then the calendar alone counts: a deadline by this clock never comes nearer
	}
	return time.Duration(t.Nano())
}
