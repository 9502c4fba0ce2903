//go:build !linux

package nap

import "time"

func rest(d time.Duration) { time.Sleep(d) }
