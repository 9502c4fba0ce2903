package facts

import (
	"slices"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
)

// canonical gives the evidence in an order of its own, so that no judge can depend on the order of arrival, with each reply localized.
func canonical(s *evidence.Set) *evidence.Set {
	out := s.Ordered()
	out.Bursts = merged(out.Bursts)
	for i := range out.Lookups {
		out.Lookups[i].Reply = localized(s.Endpoint, out.Lookups[i].Reply)
	}
	for i := range out.Echoes {
		out.Echoes[i].Reply = localized(s.Endpoint, out.Echoes[i].Reply)
	}
	for i := range out.Connects {
		out.Connects[i].Reply = localized(s.Endpoint, out.Connects[i].Reply)
	}
	for i := range out.Hops {
		out.Hops[i].Reply = localized(s.Endpoint, out.Hops[i].Reply)
	}
	return out
}

// merged puts all probes to one address together, connections apart from the others; the usual time is that of the larger part, which
// stands first.
func merged(ordered []evidence.Burst) (out []evidence.Burst) {
	for _, b := range ordered {
		i := slices.IndexFunc(out, func(x evidence.Burst) bool {
			return x.To == b.To && (x.Method == evidence.ByConnections) == (b.Method == evidence.ByConnections)
		})
		if i < 0 {
			out = append(out, b)
			continue
		}
		out[i].Sent, out[i].Received = out[i].Sent+b.Sent, out[i].Received+b.Received
	}
	return out
}

// localized turns "host unreachable" that the machine's own kernel said into what it is: the packet was not sent, for want of the next
// hop's hardware address (RFC 1122 §2.3.2.2). Nobody out there has spoken.
func localized(e *endpoint.Endpoint, r evidence.Reply) evidence.Reply {
	if e != nil && r.Outcome == evidence.Unreachable && r.Why == evidence.NoHost && e.Owns(r.From) {
		return evidence.Reply{Outcome: evidence.LocalError, Reason: evidence.NoNextHop, RTT: r.RTT}
	}
	return r
}
