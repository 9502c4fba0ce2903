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

// Stood is how long this machine may stand still before what it measured meanwhile is no evidence any more: probes were not sent, and
// answers not looked at, in time.
const Stood = 60 * time.Millisecond

// Watch notes how late this process gets its turn, until stop is called, which gives the longest time that it had to wait for it: another
// program had the processor, or the whole machine was halted.
func Watch() (stop func() time.Duration) {
	const pace = 5 * time.Millisecond
	over, worst := make(chan struct{}), make(chan time.Duration)
	go func() {
		late, last := time.Duration(0), time.Now()
		tick := time.NewTimer(pace)
		defer tick.Stop()
		for {
			select {
			case <-over:
				worst <- max(late, time.Since(last)-pace)
				return
			case <-tick.C:
			}
			now := time.Now()
			late, last = max(late, now.Sub(last)-pace), now
			tick.Reset(pace)
		}
	}()
	return func() time.Duration {
		close(over)
		return <-worst
	}
}
