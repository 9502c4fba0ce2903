package facts

import (
	"net/netip"
	"slices"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/lease"
)

// Lease is the DHCP lease in force on the port.
func (f *Facts) Lease() (lease.Lease, bool) {
	x := f.lease.of(func() (x found[lease.Lease]) {
		x.thing, x.there = f.reckonLease()
		return x
	})
	return x.thing, x.there
}

func (f *Facts) reckonLease() (lease.Lease, bool) {
	if f.Endpoint == nil || f.Iface == nil {
		return lease.Lease{}, false
	}
	return f.Endpoint.Lease(f.Iface.Name)
}

// Leased reports whether the port's IPv4 address came by DHCP.
func (f *Facts) Leased() bool {
	a, ok := f.Address4()
	if !ok {
		return false
	}
	l, held := f.Lease()
	return a.Origin == endpoint.ByDHCP || held && l.Terms.Address == a.Prefix.Addr()
}

// GatewayFromDHCP reports whether the gateway came by DHCP, as far as the lease, the route's mark or else the lease's address tell.
func (f *Facts) GatewayFromDHCP() bool {
	if l, ok := f.Lease(); ok && len(l.Terms.Routers) > 0 {
		return slices.Contains(l.Terms.Routers, f.Gateway)
	}
	if f.Endpoint == nil || f.Iface == nil || !f.Gateway.Is4() {
		return false
	}
	for _, r := range f.Endpoint.DefaultRoutes(false) {
		if r.Interface == f.Iface.Name && r.Via == f.Gateway {
			return r.Origin == endpoint.ByDHCP
		}
	}
	return false
}

// RoutersNamed are the IPv4 routers of this segment that anybody names: the gateway set, the lease, offers.
func (f *Facts) RoutersNamed() []netip.Addr { return slices.Clip(f.routers.of(f.reckonRoutersNamed)) }

func (f *Facts) reckonRoutersNamed() (out []netip.Addr) {
	add := func(list ...netip.Addr) {
		for _, a := range list {
			if a.Is4() && !slices.Contains(out, a) {
				out = append(out, a)
			}
		}
	}
	add(f.Gateway)
	if f.Endpoint != nil && f.Iface != nil {
		if gw, ok := f.Endpoint.Gateway(f.Iface.Name, false); ok {
			add(gw)
		}
	}
	if l, ok := f.Lease(); ok {
		add(l.Terms.Routers...)
	}
	offers, _ := f.OffersSeen()
	for _, o := range offers {
		add(o.Routers...)
	}
	return out
}

// WantedOnLink are the IPv4 addresses that are wanted and that the mask takes for neighbours: the target's, and the name servers'.
func (f *Facts) WantedOnLink() []netip.Addr { return slices.Clip(f.wanted.of(f.reckonWantedOnLink)) }

func (f *Facts) reckonWantedOnLink() (out []netip.Addr) {
	list := slices.Clone(f.Addresses)
	for _, r := range f.Resolvers {
		list = append(list, r.Address)
	}
	for _, a := range list {
		if a.Is4() && f.OnLink(a) && !f.Owns(a) && a != f.Gateway && !slices.Contains(out, a) {
			out = append(out, a)
		}
	}
	return out
}

// GatewayDoubtful reports whether an IPv4 gateway is set that has not shown to pass traffic on: it keeps silent, or nothing comes back
// through it.
func (f *Facts) GatewayDoubtful() bool {
	return f.Gateway.Is4() && f.Forwards != Yes && len(f.Outside) == 0
}

// Forwarder is a neighbour that passes traffic on, other than the gateway set.
func (f *Facts) Forwarder() (netip.Addr, bool) {
	for _, h := range f.Handoffs {
		if h.By != f.Gateway && h.Passed() {
			return h.By, true
		}
	}
	return netip.Addr{}, false
}

// GatewayFails reports whether the gateway set is no way out: it keeps silent, or passes nothing on.
func (f *Facts) GatewayFails() bool {
	return f.Gateway.IsValid() && (f.Alive == No || f.Forwards == No)
}

// ReachedThrough is the router through which an address is reached that the mask takes for a silent neighbour.
func (f *Facts) ReachedThrough(to netip.Addr) (by netip.Addr, ok bool) {
	for _, h := range f.Handoffs {
		if h.To == to && h.By != to && h.HopLimit > 1 &&
			(h.Reached() || h.Outcome == evidence.Unreachable && h.From != h.By && !f.Owns(h.From)) {
			return h.By, true
		}
	}
	return netip.Addr{}, false
}
