package nap

import (
	"time"

	"golang.org/x/sys/unix"
)

// Asleep is how long this machine has been suspended since it started: the boot clock counts that time, the monotonic one does not
// (clock_gettime(2)).
func Asleep() time.Duration {
	var boot, mono unix.Timespec
	if unix.ClockGettime(unix.CLOCK_BOOTTIME, &boot) != nil || unix.ClockGettime(unix.CLOCK_MONOTONIC, &mono) != nil {
		return 0
	}
	return time.Duration(boot.Nano() - mono.Nano())
}
