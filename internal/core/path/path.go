// Package path sorts the stations of a trace into stretches: whose part of the way each belongs to.
package path

import (
	"net/netip"

	"passepartout/internal/core/subnet"
)

// Segment is the part of the way to which a station belongs.
type Segment string

// The segments, in the contract's words.
const (
	LocalSubnet Segment = "local-subnet"
	Private     Segment = "private"
	Provider    Segment = "provider"
	Far         Segment = "far"
	Destination Segment = "destination"
	Unknown     Segment = "unknown"
)

// Segments sorts the stations of one trace, in order of hop limit; a zero address is a silent station. onLink tells what lies on the own
// segment.
//
// Public addresses count as the provider's, until one shares the destination's network (its /24, or /48 for IPv6): from there on it is the
// far side. A silent station between two of one segment belongs to it.
func Segments(stations []netip.Addr, to netip.Addr, onLink func(netip.Addr) bool) []Segment {
	out := make([]Segment, len(stations))
	far := false
	for i, a := range stations {
		switch kind := subnet.KindOf(a); {
		case !a.IsValid():
			out[i] = Unknown
		case a == to:
			out[i] = Destination
		case onLink(a):
			out[i] = LocalSubnet
		case kind == subnet.Private || kind == subnet.UniqueLocal || kind == subnet.LinkLocal:
			out[i] = Private
		case far || network(a) == network(to):
			out[i], far = Far, true
		default:
			out[i] = Provider
		}
	}
	for i := 1; i < len(out)-1; i++ {
		if out[i] != Unknown {
			continue
		}
		next := i + 1
		for next < len(out)-1 && out[next] == Unknown {
			next++
		}
		if out[i-1] == out[next] {
			out[i] = out[next]
		}
	}
	return out
}

func network(a netip.Addr) netip.Prefix {
	bits := 24
	if a.Is6() {
		bits = 48
	}
	p, err := a.WithZone("").Prefix(bits)
	if err != nil {
		return netip.Prefix{}
	}
	return p
}
