package fault

import (
	"fmt"
	"net/netip"

	"passepartout/internal/core/change"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/facts"
	"passepartout/internal/core/zone"
)

var elsewhereFaults = []*Fault{DeviceInAnotherNetwork}

// elsewherePerhaps reports that the target may be reached by another way than the one that was tried: by another router, or on the segment.
func elsewherePerhaps(p *facts.Facts) (why string, is bool) {
	if p.NearbyUntold() {
		return fmt.Sprintf("whether %v stands on this segment is not known", p.NearbyPerhaps()[0]), true
	}
	return untried(p)
}

// DeviceInAnotherNetwork: the target is plugged in here, and set for another network.
var DeviceInAnotherNetwork = &Fault{
	ID: "device-in-another-network", Zone: zone.LocalSubnet, Place: 140, Scope: OfTarget, Matters: WhileItMayStandHere, Check: "neighbours",
	Needs: []evidence.Kind{evidence.RouteLookup, evidence.OtherNeighbours, evidence.ServiceConnect, evidence.TargetEcho},
	Explains: []ID{"destination-silent", "destination-unreachable", "prohibited-by-policy", "service-filtered", "service-refused",
		"path-stops", "routing-loop", "gateway-does-not-forward"},
	Doc: `The target stands on this segment, and is set for another network
The address that is asked for belongs to none of this machine's networks, so that all that is sent there goes to the gateway and is lost
behind it; and a device on this very segment answers ARP for it. It has its factory settings, or those of the place that it came from. It
is taken for a dead device, or for a fault of the provider. Give this machine a second address in the device's network for as long as it
takes to set it right.`,
	Judge: func(p *facts.Facts) Finding {
		perhaps := p.NearbyPerhaps()
		switch {
		case p.Usable() == facts.Yes:
			return cleared("the target is reached")
		case len(perhaps) == 0 && p.IsOpen(evidence.RouteLookup, evidence.NameLookup):
			return possible("where the target's addresses lie is not known yet")
		case len(perhaps) == 0:
			return cleared("no address of the target is one of another network that could stand here")
		}
		a, hw, sole, yes := p.Nearby()
		if !yes {
			if p.NearbyUntold() {
				return possible("whether %v stands on this segment is not known", perhaps[0])
			}
			return cleared("asked on the segment, nobody but a router answers for %v", perhaps[0])
		}
		answers := false
		p.EachReply(func(asked netip.Addr, r evidence.Reply, _ int) { answers = answers || r.Came() && r.From == a })
		if answers {
			return cleared("%v answers by way of the gateway", a)
		}
		f := found(Supported,
			fmt.Sprintf("%v stands on %s, at %v, and is set for another network: what is sent to it goes to the gateway.", a,
				segmentName(p), hw), fmt.Sprintf("asked on the segment, %v answers for %v", hw, a))
		if !sole {
			f.For = append(f.For, fmt.Sprintf("%v has an address of this network as well", hw))
		} else if by, out := p.LeavesTheSite(a); out {
			f.Standing = Confirmed
			f.For = append(f.For, fmt.Sprintf("what is sent to %v comes as far as %v, behind the gateway", a, by))
		}
		f = f.oncePlain(p).next(
			fmt.Sprintf("Give this machine a second address next to it for a while: passepartout visit %v.", a),
			"Or set the device for this network, at its own buttons or by whoever knows it.")
		near, err := change.Beside(netip.PrefixFrom(a, 24), 8)
		if err != nil {
			return f
		}
		for _, own := range near {
			if n, asked := p.Neighbour(own); !asked || n.Outcome != evidence.Answered {
				return f.mends(fmt.Sprintf("Reach %v from %v for %.0f minutes", a, own, change.UsualVisit.Minutes()), "",
					change.Visit(p.Iface.Name, a, own, change.UsualVisit))
			}
		}
		return f
	},
}
