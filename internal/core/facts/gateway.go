package facts

import (
	"net/netip"
	"slices"
	"time"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/subnet"
)

func (f *Facts) gateway() netip.Addr {
	for _, a := range f.Addresses {
		if r, ok := f.RouteTo(a); ok && r.Via.IsValid() && (f.Iface == nil || r.Interface == f.Iface.Name) {
			return r.Via
		}
	}
	if f.Endpoint == nil || f.Iface == nil {
		return netip.Addr{}
	}
	for _, v6 := range []bool{false, true} {
		if gw, ok := f.Endpoint.Gateway(f.Iface.Name, v6); ok && f.Families.Allows(gw) {
			return gw
		}
	}
	return netip.Addr{}
}

// Attached reports whether a packet came from a directly attached sender: a hop limit that nobody has lowered.
func Attached(r evidence.Reply) bool {
	return r.HopLimitLeft == 64 || r.HopLimitLeft == 128 || r.HopLimitLeft == 255
}

// BeyondGateway reports whether a reply shows life past the gateway: it comes from off the segment, and is not the gateway
// speaking with another of its addresses.
func (f *Facts) BeyondGateway(r evidence.Reply, hop int) bool {
	if !r.Came() || !r.From.IsValid() || f.OnLink(r.From) || f.Owns(r.From) || r.From == f.Gateway || hop == 1 {
		return false
	}
	if r.Outcome == evidence.Answered && f.borrowed(r.From) {
		return false
	}
	switch r.Outcome {
	case evidence.Unreachable:
		return !Attached(r) && r.HopLimitLeft != 0
	case evidence.Expired:
		return true
	}
	return true
}

// borrowed reports that somebody nearer answers in an address's name, and nothing has shown that what is sent to it comes through: its
// answers are no sign of life past the gateway.
func (f *Facts) borrowed(a netip.Addr) bool {
	_, is := f.Nearer(a)
	return is && f.Through(a) != Yes
}

func (f *Facts) outside() (out []netip.Addr) {
	f.EachReply(func(_ netip.Addr, r evidence.Reply, hop int) {
		if f.BeyondGateway(r, hop) && !slices.Contains(out, r.From) {
			out = append(out, r.From)
		}
	})
	slices.SortFunc(out, netip.Addr.Compare)
	return out
}

// SlowestOutside is the longest round trip of an answer from past the gateway; 0 while there is none.
func (f *Facts) SlowestOutside() (slowest time.Duration) {
	f.EachReply(func(_ netip.Addr, r evidence.Reply, hop int) {
		if f.BeyondGateway(r, hop) {
			slowest = max(slowest, r.RTT)
		}
	})
	return slowest
}

// Witnesses are the end hosts past the gateway that answered by themselves: not routers on the way.
func (f *Facts) Witnesses() []netip.Addr { return slices.Clip(f.witnesses.of(f.reckonWitnesses)) }

func (f *Facts) reckonWitnesses() (out []netip.Addr) {
	f.EachReply(func(asked netip.Addr, r evidence.Reply, _ int) {
		if (r.Outcome == evidence.Answered || r.Outcome == evidence.Refused) && r.From == asked && !f.OnLink(asked) && !f.Owns(asked) &&
			!f.borrowed(asked) && !slices.Contains(out, asked) {
			out = append(out, asked)
		}
	})
	return out
}

func (f *Facts) others() (out []netip.Addr) {
	gateways := []netip.Addr{f.Gateway}
	if f.Endpoint != nil {
		for _, v6 := range []bool{false, true} {
			for _, r := range f.Endpoint.DefaultRoutes(v6) {
				gateways = append(gateways, r.Via)
			}
		}
	}
	add := func(a netip.Addr) {
		if !slices.Contains(gateways, a) && !f.Owns(a) && !slices.Contains(out, a) {
			out = append(out, a)
		}
	}
	for _, n := range f.Neighbours {
		if n.Outcome == evidence.Answered {
			add(n.Asked)
		}
	}
	for _, h := range f.Heard {
		if f.OnLink(h.Address) && subnet.KindOf(h.Address) != subnet.LinkLocal {
			add(h.Address)
		}
	}
	for _, l := range f.Lookups {
		if l.Came() && f.OnLink(l.Server) && l.From == l.Server {
			add(l.Server)
		}
	}
	for _, e := range f.Echoes {
		if e.Came() && f.OnLink(e.From) {
			add(e.From)
		}
	}
	slices.SortFunc(out, netip.Addr.Compare)
	return out
}

// Neighbour gives the best answer to "which hardware address has a?".
func (f *Facts) Neighbour(a netip.Addr) (best evidence.Neighbour, asked bool) {
	for _, n := range f.Neighbours {
		if n.Asked == a.WithZone("") && (!asked || n.Outcome == evidence.Answered || best.Outcome == evidence.NotKnown) {
			best, asked = n, true
		}
	}
	return best, asked
}

// LeavesElsewhere reports whether traffic to the target leaves by another port than the one that is judged, so that it says nothing of this
// one's gateway.
func (f *Facts) LeavesElsewhere() bool {
	return f.Iface != nil && slices.ContainsFunc(f.Routes, func(r endpoint.RouteAnswer) bool {
		return r.Verdict == endpoint.Forward && r.Interface != f.Iface.Name && slices.Contains(f.Addresses, r.To)
	})
}

// byGateway reports whether what comes from an address past the segment speaks for the gateway that is judged, and not for another one: the
// target may have a route of its own.
func (f *Facts) byGateway(a netip.Addr) bool {
	if f.Endpoint == nil || f.Iface == nil {
		return true
	}
	if a.Is6() != f.Gateway.Is6() { // one router for both families, as it is in most places
		return f.ByDefault()
	}
	via, known := f.Endpoint.NextHop(a)
	return !known || via == f.Gateway
}

func (f *Facts) gatewayState() (alive, forwards Answer) {
	if !f.Gateway.IsValid() {
		return Unknown, Unknown
	}
	n, asked := f.Neighbour(f.Gateway)
	switch {
	case asked && n.Outcome == evidence.Answered:
		alive = Yes
	case asked && n.Outcome == evidence.Silent:
		alive = No
	}
	if slices.ContainsFunc(f.Outside, f.byGateway) {
		return Yes, Yes
	}
	askedFirst, tries := false, 0
	f.EachReply(func(askedAddr netip.Addr, r evidence.Reply, hop int) {
		if r.Came() && r.From == f.Gateway.WithZone("") {
			alive = Yes
		}
		if hop != 1 && r.Outcome != evidence.Unreachable || !f.byGateway(askedAddr) {
			return
		}
		if hop == 1 && !f.OnLink(askedAddr) {
			askedFirst = true
			tries++
			if r.Outcome == evidence.Expired || r.Outcome == evidence.Unreachable && !f.Owns(r.From) {
				alive, forwards = Yes, Yes
			}
		}
		// An unreachable with an undiminished hop limit comes from the gateway, whichever of its addresses it speaks with.
		if r.Outcome == evidence.Unreachable && (r.From == f.Gateway || Attached(r) && !f.Owns(r.From)) && !f.OnLink(askedAddr) {
			alive, forwards = Yes, Yes
		}
	})
	if forwards == Unknown && askedFirst && tries >= 2 && !f.IsOpen(evidence.PathTrace) && !f.LeavesElsewhere() {
		forwards = No
	}
	return alive, forwards
}
