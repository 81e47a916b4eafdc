package lifetime

import (
	"time"

	"golang.org/x/sys/windows"
)

// uptime is GetTickCount64, which includes sleep.
func uptime() time.Duration { return windows.DurationSinceBoot() }
