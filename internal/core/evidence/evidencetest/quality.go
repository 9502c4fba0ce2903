package evidencetest

import (
	"net/netip"
	"time"

	"passepartout/internal/core/evidence"
)

// Probed is a burst of small probes: so many of so many answered, half within so many milliseconds.
func Probed(to netip.Addr, received, sent int, ms float64) evidence.Burst {
	return evidence.Burst{To: to, Method: "icmp", Sent: sent, Received: received, Median: time.Duration(ms * float64(time.Millisecond))}
}

// Connected is a burst of connections to the booking service.
func Connected(received, sent int, ms float64) evidence.Burst {
	b := Probed(Bookings, received, sent, ms)
	b.Method = evidence.ByConnections
	return b
}

// Measured adds what a clean site answers to the probes for loss, delay and packet size.
func Measured(s *evidence.Set) {
	s.Bursts = append(s.Bursts, Probed(Gateway, 20, 20, .4), Probed(Bookings, 20, 20, 20))
	s.Sizings = append(s.Sizings, evidence.Sizing{To: Gateway, Full: 1500, Passes: 1500},
		evidence.Sizing{To: Bookings, Full: 1500, Passes: 1500})
}
