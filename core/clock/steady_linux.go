package clock

import (
	"time"

	"golang.org/x/sys/unix"
)

// steady is the time since this computer was started, also while it slept. Nobody sets it.
func steady() time.Duration {
	var t unix.Timespec
	if unix.ClockGettime(unix.CLOCK_BOOTTIME, &t) != nil {
		return time.Since(begun)
	}
	return time.Duration(t.Nano())
}

var begun = time.Now()
