//go:build !linux

package clock

import "time"

// steady is the time since this program was started. Nobody sets it.
func steady() time.Duration { return time.Since(begun) }

var begun = time.Now()
