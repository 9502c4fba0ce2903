package change

import (
	"cmp"
	"net/netip"
	"slices"
)

// bench holds settings while they are worked on, one step after the other. Machines have ten thousand routes: what is asked of them at each
// step is looked up, not searched for.
type bench struct {
	*Settings
	routes  map[Route]struct{}        // each without its being on the link
	entries map[Route]int             // how many next hops each entry has, see Route.entry
	links   map[string][]netip.Prefix // what lies on the link of an interface by a route of its own
}

func (s *Settings) bench() *bench {
	b := &bench{Settings: s}
	b.index()
	return b
}

// index looks at all routes again.
func (b *bench) index() {
	b.routes, b.entries = make(map[Route]struct{}, len(b.Routes)), make(map[Route]int, len(b.Routes))
	b.links = map[string][]netip.Prefix{}
	for _, r := range b.Routes {
		b.note(r)
	}
}

func (b *bench) note(r Route) {
	b.routes[r.bare()] = struct{}{}
	b.entries[r.entry()]++
	if !r.Via.IsValid() && !r.IsDefault() {
		b.links[r.Interface] = append(b.links[r.Interface], r.To)
	}
}

// usual6 is the metric of a route of IPv6 for which none is given (IP6_RT_PRIO_USER, linux/ipv6_route.h).
const usual6 = 1024

// asKept is a route as the system keeps it: with what it puts where nothing is given.
func (r Route) asKept() Route {
	r.Protocol = cmp.Or(r.Protocol, byHand)
	if r.To.Addr().Is6() {
		r.Metric = cmp.Or(r.Metric, usual6)
	}
	return r
}

// bare is a route without what follows from the other settings.
func (r Route) bare() Route {
	r.OnLink = false
	return r
}

// entry is what the system keeps one of, whatever else stands in it: a destination and metric, of IPv6 with its next hop.
func (r Route) entry() Route {
	if r.To.Addr().Is4() {
		return Route{To: r.To, Metric: r.Metric}
	}
	return Route{To: r.To, Metric: r.Metric, Via: r.Via, Interface: r.Interface}
}

// has reports whether a route is there.
func (b *bench) has(r Route) bool {
	_, there := b.routes[r.bare()]
	return there
}

// reaches reports whether a gateway lies in a network of an interface.
func (b *bench) reaches(name string, gateway netip.Addr) bool {
	if gateway.Is6() && gateway.IsLinkLocalUnicast() {
		return true
	}
	covers := func(p netip.Prefix) bool { return p.Masked().Contains(gateway.WithZone("")) }
	mine := func(a Address) bool { return a.Interface == name && covers(a.Prefix) }
	return slices.ContainsFunc(b.Addresses, mine) || slices.ContainsFunc(b.Made, mine) || slices.ContainsFunc(b.links[name], covers)
}

// settle says of each route whether its gateway lies in some network of its interface: routes outlive the address that carried them.
func (b *bench) settle() {
	for i, r := range b.Routes {
		b.Routes[i] = r.asKept()
		b.Routes[i].OnLink = r.Via.IsValid() && !b.reaches(r.Interface, r.Via)
	}
}

func (b *bench) removeRoute(r Route) bool {
	if !b.has(r) {
		return false
	}
	for i, x := range slices.Backward(b.Routes) { // where the last one is taken away first, it is found at once
		if x.bare() == r.bare() {
			b.Routes = slices.Delete(b.Routes, i, i+1)
			break
		}
	}
	delete(b.routes, r.bare())
	b.entries[r.entry()]--
	if !r.Via.IsValid() {
		b.index()
	}
	return true
}
