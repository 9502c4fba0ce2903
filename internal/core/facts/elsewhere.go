package facts

import (
	"net/netip"
	"slices"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/subnet"
)

// A device that is fresh out of its box, or was brought from elsewhere, stands on the segment and has an address of another network. What
// is sent to it goes to the gateway, and from there nowhere.

// Nobody is an address that no machine has (TEST-NET-1, RFC 5737): who answers for it answers for others.
var Nobody = netip.MustParseAddr("192.0.2.1")

// NearbyPerhaps are the target's addresses that may stand on the segment all the same: those of no network of this machine that are given
// by hand or made up (RFC 1918, RFC 3927), and are sent to a gateway of the interface.
func (f *Facts) NearbyPerhaps() (out []netip.Addr) {
	if f.Iface == nil || f.ByProxy() {
		return nil
	}
	for _, a := range f.Addresses {
		kind := subnet.KindOf(a)
		route, known := f.RouteTo(a)
		if a.Is4() && (kind == subnet.Private || kind == subnet.LinkLocal) && !f.OnLink(a) && !f.Owns(a) && known &&
			route.Verdict == endpoint.Forward && route.Via.IsValid() && route.Interface == f.Iface.Name {
			out = append(out, a)
		}
	}
	return out
}

// Nearby is an address of the target that stands on the segment and is of another network, with the hardware address that answers for it.
// sole is false where that one has an address of this network as well.
func (f *Facts) Nearby() (a netip.Addr, hw endpoint.HardwareAddr, sole, yes bool) {
	router := f.Holders(f.Gateway)
	if n, ok := f.Neighbour(f.Gateway); ok {
		router = append(router, n.Hardware...)
	}
	for _, a := range f.NearbyPerhaps() {
		n, asked := f.Neighbour(a)
		if !asked || n.Outcome != evidence.Answered || len(n.Hardware) != 1 {
			continue
		}
		hw := n.Hardware[0]
		others := slices.ContainsFunc(f.Neighbours, func(o evidence.Neighbour) bool { // it answers for more of what is not here
			return o.Asked != a && o.Outcome == evidence.Answered && slices.Contains(o.Hardware, hw) && o.Asked.Is4() && !f.OnLink(o.Asked)
		})
		if slices.Contains(router, hw) || others {
			continue
		}
		also := slices.ContainsFunc(f.Neighbours, func(o evidence.Neighbour) bool {
			return o.Asked != a && o.Outcome == evidence.Answered && slices.Contains(o.Hardware, hw)
		}) || slices.ContainsFunc(f.Heard, func(h evidence.Heard) bool {
			return h.Hardware == hw && h.Address != a && f.OnLink(h.Address)
		})
		return a, hw, !also, true
	}
	return netip.Addr{}, endpoint.HardwareAddr{}, false, false
}

// NearbyUntold reports that it is not known whether an address of the target stands on the segment.
func (f *Facts) NearbyUntold() bool {
	return slices.ContainsFunc(f.NearbyPerhaps(), func(a netip.Addr) bool {
		n, asked := f.Neighbour(a)
		return !asked || n.Outcome != evidence.Answered && n.Outcome != evidence.Silent
	})
}

// LeavesTheSite reports that a question to an address got past the gateway: somebody there has said something about it.
func (f *Facts) LeavesTheSite(a netip.Addr) (by netip.Addr, yes bool) {
	f.EachReply(func(asked netip.Addr, r evidence.Reply, _ int) {
		if asked == a && r.From.IsValid() && r.From != a && r.From != f.Gateway && !f.Owns(r.From) && !f.OnLink(r.From) {
			by, yes = r.From, true
		}
	})
	return by, yes
}
