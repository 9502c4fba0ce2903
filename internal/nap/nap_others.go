//go:build !linux

package nap

import "time"

func rest(d time.Duration) { time.Sleep(d) }

// Asleep is not known here.
func Asleep() time.Duration { return 0 }
