package fault

import (
	"net/netip"
	"slices"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
)

// Answer is a yes or no that may be unknown: looked and seen, looked and not seen, not looked.
type Answer uint8

// The answers.
const (
	Unknown Answer = iota
	Yes
	No
)

func answer(yes bool) Answer {
	if yes {
		return Yes
	}
	return No
}

// Pass is the evidence as the judges see it, with the facts that several of them need derived once.
type Pass struct {
	*evidence.Set
	Iface     *endpoint.Interface // nil if there is none
	Gateway   netip.Addr          // the one in the target's way, else the default one; zero: none
	Addresses []netip.Addr        // of the target
	Source    string              // where they come from
	Resolvers []ResolverFact
	Alive     Answer // the gateway answers, in whatever way
	Forwards  Answer // the gateway passes traffic on, or says that it cannot
	Others    []netip.Addr
	Outside   []netip.Addr // addresses past the gateway from which anything came
	Trails    []evidence.Trail
}

// NewPass derives the facts.
func NewPass(s *evidence.Set) *Pass {
	p := &Pass{Set: canonical(s)}
	if s.Endpoint != nil {
		if i, ok := s.Endpoint.Interface(s.Interface); ok {
			p.Iface = i
		}
	}
	p.Addresses, p.Source = s.TargetAddresses()
	p.Gateway = p.gateway()
	p.Trails = p.trails()
	p.Outside = p.outside()
	p.Others = p.others()
	p.Alive, p.Forwards = p.gatewayState()
	p.Resolvers = p.resolvers()
	return p
}

// RouteTo gives the system's answer for an address, if it was asked.
func (p *Pass) RouteTo(a netip.Addr) (endpoint.RouteAnswer, bool) {
	for _, r := range p.Routes {
		if r.To == a {
			return r, true
		}
	}
	return endpoint.RouteAnswer{}, false
}

// OnLink reports whether an address is on the segment by the interface's own prefixes.
func (p *Pass) OnLink(a netip.Addr) bool { return p.Iface != nil && p.Iface.OnLink(a) }

func (p *Pass) own(a netip.Addr) bool { return p.Endpoint != nil && p.Endpoint.Owns(a) }

func (p *Pass) trails() (out []evidence.Trail) {
	var to []netip.Addr
	for _, h := range p.Hops {
		if !slices.Contains(to, h.To) {
			to = append(to, h.To)
		}
	}
	slices.SortFunc(to, netip.Addr.Compare)
	for _, a := range to {
		if t, ok := p.TrailTo(a); ok {
			out = append(out, t)
		}
	}
	return out
}

func (p *Pass) eachReply(f func(asked netip.Addr, r evidence.Reply, hop int)) {
	for _, x := range p.Echoes {
		f(x.Asked, x.Reply, 0)
	}
	for _, x := range p.Connects {
		f(x.To.Addr(), x.Reply, 0)
	}
	for _, x := range p.Lookups {
		f(x.Server, x.Reply, 0)
	}
	for _, x := range p.Webs {
		f(x.To.Addr(), x.Reply, 0)
	}
	for _, x := range p.Hops {
		f(x.To, x.Reply, x.HopLimit)
	}
	for _, x := range p.Bursts {
		if x.Received > 0 {
			f(x.To, evidence.Reply{Outcome: evidence.Answered, From: x.To, RTT: x.Median}, 0)
		}
	}
}

// Ready is false, with the reason, when the port is not in a state in which the segment could be judged through it.
func (p *Pass) Ready() (why string, ok bool) {
	switch {
	case p.Iface == nil:
		return "there is no port to ask through", false
	case !p.Iface.Up:
		return p.Iface.Name + " is down", false
	case p.Iface.Carrier == endpoint.CarrierAbsent:
		return p.Iface.Name + " has no carrier", false
	case len(p.Iface.Usable(false))+len(p.Iface.Usable(true)) == 0:
		return p.Iface.Name + " has no usable address", false
	}
	return "", true
}

// OffersSeen gives the DHCP offers, and whether the question was put and its time is over.
func (p *Pass) OffersSeen() (offers []evidence.Offer, over bool) {
	if p.Discovery == nil {
		return nil, false
	}
	return p.Discovery.Offers, p.Discovery.Complete && p.Discovery.Discovers > 0
}

// address4 is the interface's first usable IPv4 address.
func (p *Pass) address4() (endpoint.Address, bool) {
	if p.Iface == nil {
		return endpoint.Address{}, false
	}
	usable := p.Iface.Usable(false)
	if len(usable) == 0 {
		return endpoint.Address{}, false
	}
	return usable[0], true
}
