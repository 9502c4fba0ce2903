package plan

import (
	"net/netip"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/facts"
	"passepartout/internal/core/subnet"
	"passepartout/internal/core/target"
	"passepartout/internal/core/topology"
	"passepartout/internal/core/zone"
	"passepartout/internal/probe/watch"
)

// The ranks of the witnesses, from near to far.
const (
	rankLoopback = iota + 1
	rankGateway
	rankFirstBeyond
	rankTarget
)

// Witnesses says whom to watch in a case: the loopback, the gateway, the first station beyond the site and the target are probed in step,
// so that a loss can be laid to the nearest of them that failed; the name servers beside them. answered tells who has answered the watch
// before, whatever the tests saw; nil: nobody has.
func Witnesses(s *evidence.Set, answered func(netip.Addr) bool) []watch.Spec {
	mute := func(a netip.Addr) bool { return echoless(s, a) && (answered == nil || !answered(a)) }
	var out []watch.Spec
	seen := map[netip.Addr]bool{}
	add := func(a netip.Addr, label string, z zone.Zone, rank int) {
		if !a.IsValid() || seen[a] {
			return
		}
		seen[a] = true
		t, err := target.Parse(a.String())
		if err != nil {
			return // an address with a zone that no target can have
		}
		if label == "" {
			if label = s.NameOf(a); label != "" {
				label = topology.Short(label, s)
			}
		}
		out = append(out, watch.Spec{Target: t, Label: label, Zone: z, Rank: rank})
	}
	loopback := netip.MustParseAddr("127.0.0.1")
	if s.Families.No4 {
		loopback = netip.IPv6Loopback()
	}
	add(loopback, "loopback", zone.Host, rankLoopback)
	p := facts.New(s)
	rank := rankGateway
	if p.Gateway.IsValid() && !p.Gateway.IsLinkLocalUnicast() {
		if mute(p.Gateway) { // it says nothing about loss: another station of the segment stands in for it
			rank = 0
		}
		add(p.Gateway, "", zone.LocalSubnet, rank)
	}
	for _, r := range p.Resolvers {
		if !r.OnLink {
			continue
		}
		standIn := 0
		if rank == 0 && r.Speaks == facts.Yes {
			standIn, rank = rankGateway, rankGateway
		}
		add(r.Address, "", zone.LocalSubnet, standIn)
	}
	add(firstBeyond(p), "", zone.Beyond, rankFirstBeyond)
	for _, r := range p.Resolvers {
		add(r.Address, "", zone.Beyond, 0)
	}
	if s.Target.IsZero() {
		return out
	}
	x := watch.Spec{Target: s.Target, Label: topology.Short(s.Target.Host(), s), Zone: zone.Beyond, Rank: rankTarget, Families: s.Families}
	if p.TargetOnLink() {
		x.Zone = zone.LocalSubnet
	}
	for _, a := range p.Addresses {
		if mute(a) && s.Target.Port != 0 {
			x.Method = watch.Connect
		}
		if seen[a] {
			return out
		}
	}
	return append(out, x)
}

// echoless reports whether an address was asked for an echo and never answered, though it was reached otherwise.
func echoless(s *evidence.Set, a netip.Addr) bool {
	asked, reached := false, false
	for _, e := range s.Echoes {
		if e.Asked == a {
			if e.Outcome == evidence.Answered {
				return false
			}
			asked = true
		}
	}
	for _, c := range s.Connects {
		reached = reached || c.To.Addr() == a && (c.Outcome == evidence.Answered || c.Outcome == evidence.Refused)
	}
	for _, n := range s.Neighbours {
		reached = reached || n.Asked == a && n.Outcome == evidence.Answered
	}
	return asked && reached
}

// firstBeyond is the nearest station behind the gateway with a public address, else the nearest behind it.
func firstBeyond(p *facts.Facts) (first netip.Addr) {
	for _, t := range p.Trails {
		for _, st := range t.Stations {
			if st.HopLimit < 2 || !st.From.IsValid() || st.From == t.To || st.From == p.Gateway {
				continue
			}
			if subnet.KindOf(st.From) != subnet.Private && subnet.KindOf(st.From) != subnet.UniqueLocal {
				return st.From
			}
			if !first.IsValid() {
				first = st.From
			}
		}
	}
	return first
}
