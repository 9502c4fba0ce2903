package nap

import (
	"time"

	"golang.org/x/sys/unix"
)

func rest(d time.Duration) {
	for left := unix.NsecToTimespec(int64(d)); ; {
		if err := unix.Nanosleep(&left, &left); err != unix.EINTR {
			return
		}
	}
}
