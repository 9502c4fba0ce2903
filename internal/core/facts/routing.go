package facts

import (
	"net/netip"
	"slices"

	"passepartout/internal/core/endpoint"
)

// Routed reports whether the system has said of every address of the target how it would reach it.
func (f *Facts) Routed() bool {
	return !slices.ContainsFunc(f.Addresses, func(a netip.Addr) bool { _, known := f.RouteTo(a); return !known })
}

// GatewayDeclared reports that the gateway, though no prefix of the interface holds it, is declared to stand on the segment: by a route to
// it that needs no gateway itself, or by the flag "onlink" (ip-route(8)), as rented servers with an address of their own alone have it.
func (f *Facts) GatewayDeclared() bool {
	if f.Endpoint == nil || f.Iface == nil || !f.Gateway.IsValid() {
		return false
	}
	if !slices.ContainsFunc(f.Iface.Usable(f.Gateway.Is6()), func(own endpoint.Address) bool { return own.Prefix.IsSingleIP() }) {
		return false // it has a network, and the gateway lies outside it
	}
	return slices.ContainsFunc(f.Endpoint.Routes, func(r endpoint.Route) bool {
		return r.Interface == f.Iface.Name && (r.Via == f.Gateway && r.OnLink || !r.Via.IsValid() && r.To.IsValid() && !r.IsDefault() &&
			r.To.Contains(f.Gateway.WithZone("")))
	})
}

// NextDoor reports whether an address stands on a segment of any of this machine's interfaces, or is one of its gateways.
func (f *Facts) NextDoor(a netip.Addr) bool {
	return a == f.Gateway || f.Endpoint != nil &&
		(f.Endpoint.OnLink(a) || slices.ContainsFunc(f.Endpoint.Routes, func(r endpoint.Route) bool { return r.Via == a && a.IsValid() }))
}

// ByDefault reports whether the gateway that is judged is the default one, and not the next hop of a route of the target's own.
func (f *Facts) ByDefault() bool {
	if f.Endpoint == nil || f.Iface == nil {
		return false
	}
	usual, _ := f.Endpoint.Gateway(f.Iface.Name, f.Gateway.Is6())
	return usual == f.Gateway
}
