// Package nap sleeps to within some ten microseconds. Go's own timers wait in whole milliseconds on an idle Linux machine (epoll_wait),
// which would add up along a simulated path.
package nap

import "time"

// Until blocks until t. It cannot be interrupted: it is for delays of links.
func Until(t time.Time) {
	if d := time.Until(t); d > 0 {
		rest(d)
	}
}
