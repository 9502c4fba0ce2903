// Package facts derives from the evidence what judges, plan and screen ask of it: who has answered, what passes, where it ends. It judges
// nothing. All that is asked often is worked out once.
package facts

import (
	"net/netip"
	"slices"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/lease"
	"passepartout/internal/core/site"
	"passepartout/internal/core/zone"
)

// Answer is a yes or no that may be unknown: looked and seen, looked and not seen, not looked.
type Answer uint8

// The answers.
const (
	Unknown Answer = iota
	Yes
	No
)

// Known is the answer of somebody who has looked.
func Known(yes bool) Answer {
	if yes {
		return Yes
	}
	return No
}

// Facts is the evidence at one moment, with what follows from it. It is for one goroutine at a time.
type Facts struct {
	*evidence.Set                     // in an order of its own
	Seen          *evidence.Set       // in the order of arrival
	Iface         *endpoint.Interface // nil if there is none
	Gateway       netip.Addr          // the one in the target's way, else the default one; zero: none
	Addresses     []netip.Addr        // of the target
	Source        string              // where they come from
	Resolvers     []ResolverFact
	Alive         Answer // the gateway answers, in whatever way
	Forwards      Answer // the gateway passes traffic on, or says that it cannot
	Others        []netip.Addr
	Outside       []netip.Addr // addresses past the gateway from which anything came
	Trails        []evidence.Trail

	usable    once[Answer]
	proxied   once[found[Proxied]]
	lossZone  once[zone.Zone]
	delayZone once[zone.Zone]
	lease     once[found[lease.Lease]]
	home      once[found[site.Network]]
	witnesses once[[]netip.Addr]
	routers   once[[]netip.Addr]
	wanted    once[[]netip.Addr]
	offLink   once[[]evidence.Trail]
}

// once is a fact that is worked out when it is first asked for.
type once[T any] struct {
	known bool
	value T
}

func (o *once[T]) of(reckon func() T) T {
	if !o.known {
		o.value, o.known = reckon(), true
	}
	return o.value
}

// found is a thing that may not be there.
type found[T any] struct {
	thing T
	there bool
}

// New derives the facts.
func New(s *evidence.Set) *Facts {
	f := &Facts{Set: canonical(s), Seen: s}
	if s.Endpoint != nil {
		if i, ok := s.Endpoint.Interface(s.Interface); ok {
			f.Iface = i
		}
	}
	f.Addresses, f.Source = s.TargetAddresses()
	f.Gateway = f.gateway()
	f.Trails = f.trails()
	f.Outside = f.outside()
	f.Others = f.others()
	f.Alive, f.Forwards = f.gatewayState()
	f.Resolvers = f.resolvers()
	return f
}

// RouteTo gives the system's answer for an address, if it was asked.
func (f *Facts) RouteTo(a netip.Addr) (endpoint.RouteAnswer, bool) {
	for _, r := range f.Routes {
		if r.To == a {
			return r, true
		}
	}
	return endpoint.RouteAnswer{}, false
}

// OnLink reports whether an address is on the segment by the interface's own prefixes.
func (f *Facts) OnLink(a netip.Addr) bool { return f.Iface != nil && f.Iface.OnLink(a) }

func (f *Facts) Owns(a netip.Addr) bool { return f.Endpoint != nil && f.Endpoint.Owns(a) }

func (f *Facts) trails() (out []evidence.Trail) {
	var to []netip.Addr
	for _, h := range f.Hops {
		if !slices.Contains(to, h.To) {
			to = append(to, h.To)
		}
	}
	slices.SortFunc(to, netip.Addr.Compare)
	for _, a := range to {
		if t, ok := f.TrailTo(a); ok {
			out = append(out, t)
		}
	}
	return out
}

func (f *Facts) EachReply(visit func(asked netip.Addr, r evidence.Reply, hop int)) {
	for _, x := range f.Echoes {
		visit(x.Asked, x.Reply, 0)
	}
	for _, x := range f.Connects {
		visit(x.To.Addr(), x.Reply, 0)
	}
	for _, x := range f.Lookups {
		visit(x.Server, x.Reply, 0)
	}
	for _, x := range f.Webs {
		if x.To.Addr() != evidence.Unassigned { // whoever answers there is not whom he is taken for
			visit(x.To.Addr(), x.Reply, 0)
		}
	}
	for _, x := range f.Hops {
		visit(x.To, x.Reply, x.HopLimit)
	}
	for _, x := range f.Bursts {
		if x.Received > 0 {
			visit(x.To, evidence.Reply{Outcome: evidence.Answered, From: x.To, RTT: x.Median}, 0)
		}
	}
}

// Ready is false, with the reason, when the port is not in a state in which the segment could be judged through it.
func (f *Facts) Ready() (why string, ok bool) {
	switch {
	case f.Iface == nil:
		return "there is no interface to ask through", false
	case !f.Iface.Up:
		return f.Iface.Name + " is down", false
	case f.Iface.Carrier == endpoint.CarrierAbsent:
		return f.Iface.Name + " has no carrier", false
	case len(f.Iface.Usable(false))+len(f.Iface.Usable(true)) == 0:
		return f.Iface.Name + " has no usable address", false
	}
	return "", true
}

// OffersSeen gives the DHCP offers, and whether the question was put and its time is over.
func (f *Facts) OffersSeen() (offers []evidence.Offer, over bool) {
	if f.Discovery == nil {
		return nil, false
	}
	return f.Discovery.Offers, f.Discovery.Complete && f.Discovery.Discovers > 0
}

// Address4 is the interface's first usable IPv4 address.
func (f *Facts) Address4() (endpoint.Address, bool) {
	if f.Iface == nil {
		return endpoint.Address{}, false
	}
	usable := f.Iface.Usable(false)
	if len(usable) == 0 {
		return endpoint.Address{}, false
	}
	return usable[0], true
}
