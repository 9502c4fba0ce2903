package facts

import (
	"net/netip"
	"slices"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
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

// Routers are the default routers of the judged interface between which the system chooses for an address: taken by its own look-up, first,
// then those that share the traffic with that one (the same metric), then those in reserve. None if a route of its own leads there.
func (f *Facts) Routers(a netip.Addr) (routers []Router) {
	way, known := f.wayTo(a)
	if !known || f.Endpoint == nil || f.Iface == nil || way.Interface != f.Iface.Name || !way.Via.IsValid() {
		return nil
	}
	if _, _, ruled := f.Endpoint.Ruled(a); ruled {
		return nil
	}
	if main, ok := f.Endpoint.MainRoute(a); !ok || !main.IsDefault() {
		return nil
	}
	defaults := f.Endpoint.DefaultRoutes(a.Is6())
	metric := -1
	for _, d := range defaults {
		if d.Via == way.Via && d.Interface == way.Interface {
			metric = d.Metric
			routers = append(routers, Router{Address: d.Via, Shares: true})
			break
		}
	}
	for _, d := range defaults {
		if metric >= 0 && d.Interface == f.Iface.Name && d.Via.IsValid() && d.Verdict == endpoint.Forward &&
			!slices.ContainsFunc(routers, func(r Router) bool { return r.Address == d.Via }) {
			routers = append(routers, Router{Address: d.Via, Shares: d.Metric == metric})
		}
	}
	return routers
}

// Router is one of several default routers.
type Router struct {
	Address netip.Addr
	Shares  bool // it takes traffic, and is not only in reserve
}

// Shared reports whether several routers share the traffic, and are not only in reserve.
func Shared(routers []Router) bool { return len(routers) > 1 && routers[1].Shares }

// wayTo is the way to an address: by the system's own look-up where it was made, else by the tables.
func (f *Facts) wayTo(a netip.Addr) (endpoint.RouteAnswer, bool) {
	if r, known := f.RouteTo(a); known {
		return r, r.Verdict == endpoint.Forward
	}
	if f.Endpoint == nil {
		return endpoint.RouteAnswer{}, false
	}
	r, known := f.Endpoint.MainRoute(a)
	return endpoint.RouteAnswer{To: a, Via: r.Via, Interface: r.Interface, Source: r.Source}, known && r.Verdict == endpoint.Forward
}

// Sought are the addresses that have to be reached: the target's, or while nothing names them, or there is none, the name servers' that
// programs ask beyond the segment.
func (f *Facts) Sought() (out []netip.Addr) {
	if len(f.Addresses) > 0 {
		return f.Addresses
	}
	for _, r := range f.Resolvers {
		if !r.Behind && !r.OnLink && !f.Owns(r.Address) {
			out = append(out, r.Address)
		}
	}
	return out
}

// Fails reports whether an address that is sought has been asked, by the way that the system takes, and does not work.
func (f *Facts) Fails(a netip.Addr) bool {
	if slices.Contains(f.Addresses, a) {
		return f.Acid(a) == No
	}
	return slices.ContainsFunc(f.Resolvers, func(r ResolverFact) bool { return r.Address == a && r.Speaks == No })
}

// HandedTo tells whether a packet for an address was handed to a router to the end, and whether the address itself answered it.
func (f *Facts) HandedTo(router, a netip.Addr) (asked, through bool) {
	for _, h := range f.Handoffs {
		if h.To == a && h.By == router && h.HopLimit > 1 && h.Outcome != evidence.NotKnown {
			asked, through = true, through || h.Reached()
		}
	}
	return asked, through
}
