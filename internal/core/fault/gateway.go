package fault

import (
	"net/netip"
	"slices"
	"time"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/subnet"
)

func (p *Pass) gateway() netip.Addr {
	for _, a := range p.Addresses {
		if r, ok := p.RouteTo(a); ok && r.Via.IsValid() && (p.Iface == nil || r.Interface == p.Iface.Name) {
			return r.Via
		}
	}
	if p.Endpoint == nil || p.Iface == nil {
		return netip.Addr{}
	}
	for _, v6 := range []bool{false, true} {
		if gw, ok := p.Endpoint.Gateway(p.Iface.Name, v6); ok && p.Families.Allows(gw) {
			return gw
		}
	}
	return netip.Addr{}
}

// direct reports whether a packet came from a directly attached sender: a hop limit that nobody has lowered.
func direct(r evidence.Reply) bool {
	return r.HopLimitLeft == 64 || r.HopLimitLeft == 128 || r.HopLimitLeft == 255
}

// beyondGateway reports whether a reply shows life past the gateway: it comes from off the segment, and is not the gateway
// speaking with another of its addresses.
func (p *Pass) beyondGateway(r evidence.Reply, hop int) bool {
	if !r.Came() || !r.From.IsValid() || p.OnLink(r.From) || p.own(r.From) || r.From == p.Gateway || hop == 1 {
		return false
	}
	switch r.Outcome {
	case evidence.Unreachable:
		return !direct(r) && r.HopLimitLeft != 0
	case evidence.Expired:
		return true
	}
	return true
}

func (p *Pass) outside() (out []netip.Addr) {
	p.eachReply(func(_ netip.Addr, r evidence.Reply, hop int) {
		if p.beyondGateway(r, hop) && !slices.Contains(out, r.From) {
			out = append(out, r.From)
		}
	})
	slices.SortFunc(out, netip.Addr.Compare)
	return out
}

// SlowestOutside is the longest round trip of an answer from past the gateway; 0 while there is none.
func (p *Pass) SlowestOutside() (slowest time.Duration) {
	p.eachReply(func(_ netip.Addr, r evidence.Reply, hop int) {
		if p.beyondGateway(r, hop) {
			slowest = max(slowest, r.RTT)
		}
	})
	return slowest
}

// Witnesses are the end hosts past the gateway that answered by themselves: not routers on the way.
func (p *Pass) Witnesses() (out []netip.Addr) {
	p.eachReply(func(asked netip.Addr, r evidence.Reply, _ int) {
		if (r.Outcome == evidence.Answered || r.Outcome == evidence.Refused) && r.From == asked && !p.OnLink(asked) && !p.own(asked) &&
			!slices.Contains(out, asked) {
			out = append(out, asked)
		}
	})
	return out
}

func (p *Pass) others() (out []netip.Addr) {
	gateways := []netip.Addr{p.Gateway}
	if p.Endpoint != nil {
		for _, v6 := range []bool{false, true} {
			for _, r := range p.Endpoint.DefaultRoutes(v6) {
				gateways = append(gateways, r.Via)
			}
		}
	}
	add := func(a netip.Addr) {
		if !slices.Contains(gateways, a) && !p.own(a) && !slices.Contains(out, a) {
			out = append(out, a)
		}
	}
	for _, n := range p.Neighbours {
		if n.Outcome == evidence.Answered {
			add(n.Asked)
		}
	}
	for _, h := range p.Heard {
		if p.OnLink(h.Address) && subnet.KindOf(h.Address) != subnet.LinkLocal {
			add(h.Address)
		}
	}
	for _, l := range p.Lookups {
		if l.Came() && p.OnLink(l.Server) && l.From == l.Server {
			add(l.Server)
		}
	}
	for _, e := range p.Echoes {
		if e.Came() && p.OnLink(e.From) {
			add(e.From)
		}
	}
	slices.SortFunc(out, netip.Addr.Compare)
	return out
}

// Neighbour gives the best answer to "which hardware address has a?".
func (p *Pass) Neighbour(a netip.Addr) (best evidence.Neighbour, asked bool) {
	for _, n := range p.Neighbours {
		if n.Asked == a.WithZone("") && (!asked || n.Outcome == evidence.Answered || best.Outcome == evidence.NotKnown) {
			best, asked = n, true
		}
	}
	return best, asked
}

// LeavesElsewhere reports whether traffic to the target leaves by another port than the one that is judged, so that it says nothing of this
// one's gateway.
func (p *Pass) LeavesElsewhere() bool {
	return p.Iface != nil && slices.ContainsFunc(p.Routes, func(r endpoint.RouteAnswer) bool {
		return r.Verdict == endpoint.Forward && r.Interface != p.Iface.Name && slices.Contains(p.Addresses, r.To)
	})
}

func (p *Pass) gatewayState() (alive, forwards Answer) {
	if !p.Gateway.IsValid() {
		return Unknown, Unknown
	}
	n, asked := p.Neighbour(p.Gateway)
	switch {
	case asked && n.Outcome == evidence.Answered:
		alive = Yes
	case asked && n.Outcome == evidence.Silent:
		alive = No
	}
	if len(p.Outside) > 0 {
		return Yes, Yes
	}
	askedFirst, tries := false, 0
	p.eachReply(func(askedAddr netip.Addr, r evidence.Reply, hop int) {
		if r.Came() && r.From == p.Gateway.WithZone("") {
			alive = Yes
		}
		if hop == 1 && !p.OnLink(askedAddr) {
			askedFirst = true
			tries++
			if r.Outcome == evidence.Expired || r.Outcome == evidence.Unreachable && !p.own(r.From) {
				alive, forwards = Yes, Yes
			}
		}
		// An unreachable with an undiminished hop limit comes from the gateway, whichever of its addresses it speaks with.
		if r.Outcome == evidence.Unreachable && (r.From == p.Gateway || direct(r) && !p.own(r.From)) && !p.OnLink(askedAddr) {
			alive, forwards = Yes, Yes
		}
	})
	if forwards == Unknown && askedFirst && tries >= 2 && !p.IsOpen(evidence.PathTrace) && !p.LeavesElsewhere() {
		forwards = No
	}
	return alive, forwards
}
