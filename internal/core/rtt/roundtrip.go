// Package rtt computes with round-trip times: one measured from its clocks, many summed up, and the time-out that follows from them.
package rtt

import "time"

// clockStep is the difference between wall and monotonic clock, over one probe, from which on the wall clock was set in between.
const clockStep = time.Millisecond

// Stamps are the kernel's wall-clock times of one exchange; each may be zero, when the kernel does not say.
type Stamps struct{ Departed, Arrived time.Time }

// RoundTrip gives the time from sent to received, which this process saw. The kernel's own stamps lack the delay before it was handed the
// packet and after it had the answer; they are used where they are there and plausible. If the wall clock was set between the two, which
// shows against the monotonic clock, the monotonic difference is taken. sent and received must carry monotonic readings (time.Now gives
// them).
func RoundTrip(sent, received time.Time, k Stamps) time.Duration {
	mono := received.Sub(sent)
	if k.Arrived.IsZero() {
		return mono
	}
	began := sent.Round(0)
	wall := received.Round(0).Sub(began)
	if step := wall - mono; step > clockStep || step < -clockStep {
		return mono
	}
	if k.Departed.After(began) && k.Departed.Before(k.Arrived) {
		began = k.Departed
	}
	if exact := k.Arrived.Sub(began); exact > 0 && exact <= mono {
		return exact
	}
	return mono
}

// Estimator adapts a time-out to the round trips seen (RFC 6298 §2, with bounds for one person's patience in place of its one second).
// The zero Estimator has seen nothing.
type Estimator struct {
	smoothed, variation time.Duration
	seen                bool
}

// Add takes in one round trip.
func (e *Estimator) Add(r time.Duration) {
	if !e.seen {
		e.smoothed, e.variation, e.seen = r, r/2, true
		return
	}
	diff := e.smoothed - r
	if diff < 0 {
		diff = -diff
	}
	e.variation += (diff - e.variation) / 4
	e.smoothed += (r - e.smoothed) / 8
}

// Timeout is how long to wait for an answer, between floor and ceiling; ceiling while nothing was seen.
func (e *Estimator) Timeout(floor, ceiling time.Duration) time.Duration {
	if !e.seen {
		return ceiling
	}
	return min(max(e.smoothed+4*e.variation, floor), ceiling)
}
