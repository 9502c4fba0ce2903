package fault

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"passepartout/internal/core/change"
	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/facts"
	"passepartout/internal/core/wording"
	"passepartout/internal/core/zone"
)

var neighboursFaults = []*Fault{NeighbourEntryPinned, GatewayImpersonated}

// HardwareList writes hardware addresses in a row.
func HardwareList(list []endpoint.HardwareAddr) string {
	var parts []string
	for _, h := range list {
		parts = append(parts, h.String())
	}
	return strings.Join(parts, " and ")
}

// pinned finds a neighbour entry that was set by hand and stands in the way: of the gateway, or of what is wanted on the segment itself.
func pinned(p *facts.Facts) (e endpoint.Neighbour, what string, ok bool) {
	wanted := map[netip.Addr]string{}
	var order []netip.Addr
	add := func(a netip.Addr, what string) {
		if a.IsValid() && wanted[a] == "" {
			wanted[a] = what
			order = append(order, a)
		}
	}
	add(p.Gateway, "the gateway")
	for _, a := range p.Addresses {
		if p.OnLink(a) {
			add(a, "the target")
		}
	}
	for _, r := range p.Resolvers {
		if p.OnLink(r.Address) {
			add(r.Address, "the name server")
		}
	}
	for _, a := range order {
		if n, known := p.Entry(a); known && n.State == endpoint.Permanent {
			if now := p.Holders(a); len(now) == 0 || !slices.Contains(now, n.Hardware) {
				return n, wanted[a], true
			}
		}
	}
	return e, "", false
}

// NeighbourEntryPinned: an entry set by hand leads to the wrong machine.
var NeighbourEntryPinned = &Fault{
	ID: "neighbour-entry-pinned", Zone: zone.Host, Place: 150, Scope: OfMachine, Matters: ByReach, Check: "gateway",
	Needs: []evidence.Kind{evidence.Settings, evidence.GatewayNeighbour, evidence.OtherNeighbours},
	Explains: []ID{"gateway-silent", "gateway-does-not-forward", "gateway-impersonated", "uplink-down", "resolver-silent-local",
		"resolver-silent", "destination-silent", "service-filtered", "segment-isolated", "name-server-failing", "host-firewall"},
	Doc: `A neighbour entry is fixed by hand, and wrong
This machine's neighbour table holds a hardware address that somebody fixed, and the address belongs to another machine now: the device
was replaced. All that is sent there goes to nobody, and no test by the system will ever correct it. It is taken for a dead gateway.
Delete the entry; the machine then asks for itself.`,
	Judge: func(p *facts.Facts) Finding {
		if why, ok := p.Ready(); !ok {
			return possible("%s", why)
		}
		e, what, wrong := pinned(p)
		if !wrong {
			return cleared("no neighbour entry that matters is fixed by hand and differs from what answers")
		}
		mend := fmt.Sprintf(
			"Delete the fixed entry of %v: ip neigh del %v dev %s. Then find out what set it, so that it does not come back.", e.Address,
			e.Address, e.Interface)
		title := fmt.Sprintf("Take the fixed entry of %v away", e.Address)
		unpinned := change.Change{
			Steps: []change.Op{{Do: change.RemoveNeighbour, Interface: e.Interface, Address: e.Address, Hardware: e.Hardware}}}
		reason := fmt.Sprintf("the neighbour table has %v at %v, fixed by hand", e.Address, e.Hardware)
		if now := p.Holders(e.Address); len(now) > 0 {
			return found(Confirmed,
				fmt.Sprintf("This machine has the hardware address of %s %v fixed as %v, and %v answers for it.", what, e.Address,
					e.Hardware, now[0]),
				reason, fmt.Sprintf("asked on the segment, %s answers for %v", HardwareList(now), e.Address)).next(mend).
				mends(title, "", unpinned)
		}
		if home, ok := p.Here(); ok {
			if f, ok := home.Holder(e.Address); ok && !f.Hardware.IsZero() && f.Hardware != e.Hardware {
				return found(Confirmed,
					fmt.Sprintf("This machine has the hardware address of %s %v fixed as %v; the site sheet says %v.", what, e.Address,
						e.Hardware, f.Hardware), reason).next(mend).mends(title, "", unpinned)
			}
		}
		reached := false
		p.EachReply(func(_ netip.Addr, r evidence.Reply, _ int) { reached = reached || r.Came() && r.From == e.Address })
		switch n, asked := p.Neighbour(e.Address); {
		case reached || len(p.Outside) > 0 && e.Address == p.Gateway:
			return cleared("%v, fixed at %v, answers", e.Address, e.Hardware)
		case asked && n.Outcome == evidence.Silent && n.Method != evidence.ByKernel:
			return possible("%v is fixed at %v, and nobody answers for it on the segment", e.Address, e.Hardware)
		case p.IsWithheld(evidence.SegmentFrames) && len(p.Others) > 0 && !p.IsOpen(evidence.GatewayEcho, evidence.PathTrace):
			return found(Supported, fmt.Sprintf("This machine has the hardware address of %s %v fixed as %v, and nothing comes back "+
				"from there, while others on the segment answer.", what, e.Address, e.Hardware),
				reason, fmt.Sprintf("answered: %s", wording.List(p.Others))).next(mend).mends(title, "", unpinned)
		}
		return possible("%v is fixed at %v; who answers for it has not been asked to an end", e.Address, e.Hardware)
	},
}

// gatewayFaces are the hardware addresses under which the gateway has been seen: those that answer now, and the one that the machine
// believed in.
func gatewayFaces(p *facts.Facts) (now []endpoint.HardwareAddr, believed endpoint.HardwareAddr) {
	if !p.Gateway.IsValid() {
		return nil, believed
	}
	if e, ok := p.Entry(p.Gateway); ok && e.State.Resolved() && e.State != endpoint.Permanent {
		believed = e.Hardware
	}
	return p.Holders(p.Gateway), believed
}

// redundant reports that the gateway's address belongs to a group of routers, so that it may be answered for by several of them.
func redundant(p *facts.Facts) (shared endpoint.HardwareAddr, yes bool) {
	now, believed := gatewayFaces(p)
	for _, h := range append(slices.Clone(now), believed) {
		if h.Shared() {
			return h, true
		}
	}
	return shared, false
}

// impersonator is a hardware address that speaks for the gateway and should not, as far as anything tells which of several is the right
// one.
func impersonator(p *facts.Facts, faces []endpoint.HardwareAddr) (who endpoint.HardwareAddr, known bool) {
	home, _ := p.Here()
	for _, h := range faces {
		if len(home.Routers) > 0 {
			if !slices.Contains(home.Routers, h) {
				return h, true
			}
			continue
		}
		for _, n := range p.Neighbours { // a neighbour that has an address of its own as well
			if n.Asked != p.Gateway && n.Outcome == evidence.Answered && slices.Contains(n.Hardware, h) {
				return h, true
			}
		}
	}
	return who, false
}

// GatewayImpersonated: somebody else speaks for the gateway.
var GatewayImpersonated = &Fault{
	ID: "gateway-impersonated", Zone: zone.LocalSubnet, Place: 100, Scope: OfEverybody, Matters: ByReach, Check: "gateway",
	Needs: []evidence.Kind{evidence.Settings, evidence.GatewayNeighbour, evidence.SegmentFrames},
	Explains: []ID{"gateway-does-not-forward", "uplink-down", "resolver-silent", "destination-silent", "service-filtered",
		"name-server-failing"},
	Doc: `Somebody else answers for the gateway
More than one hardware address answers for the gateway's address, or it has changed from one to another: a machine was given the gateway's
address by mistake, or one intercepts the traffic on purpose. What is sent to the gateway goes now to the one, now to the other. It is
taken for a flaky provider. Find the false one by its hardware address. Groups of routers that share an address do so under a hardware
address of their own.`,
	Judge: func(p *facts.Facts) Finding {
		if why, ok := p.Ready(); !ok {
			return possible("%s", why)
		}
		if !p.Gateway.IsValid() {
			return possible("no gateway is set")
		}
		now, believed := gatewayFaces(p)
		faces := slices.Clone(now)
		if !believed.IsZero() && !slices.Contains(faces, believed) {
			faces = append(faces, believed)
		}
		home, _ := p.Here()
		shared, redundant := redundant(p)
		switch {
		case redundant:
			return cleared("%v is a hardware address that a group of routers shares", shared)
		case len(faces) > 1 && len(home.Routers) > 0 &&
			!slices.ContainsFunc(faces, func(h endpoint.HardwareAddr) bool { return !slices.Contains(home.Routers, h) }):
			return cleared("the site sheet knows all of %s as the gateway's", HardwareList(faces))
		}
		look := "Find the machine with hardware address %v: the switch's address table tells its port. Unplug it, or give it another address."
		works := p.Usable() == facts.Yes
		switch {
		case len(now) > 1:
			standing := Confirmed
			// a flood: who of them is there is not known
			if len(now) > 2 || slices.ContainsFunc(now, func(h endpoint.HardwareAddr) bool { return p.Claims(h) > mostOwn }) {
				standing = Supported
			}
			f := found(standing,
				fmt.Sprintf("%s machines answer for the gateway %v: %s.",
					map[bool]string{true: "Two", false: strconv.Itoa(len(now))}[len(now) == 2], p.Gateway, HardwareList(now)),
				fmt.Sprintf("asked on the segment, %s answer for %v", HardwareList(now), p.Gateway)).aside(works).oncePlain(p)
			if !believed.IsZero() {
				f.For = append(f.For, fmt.Sprintf("this machine sends to %v", believed))
			}
			if who, known := impersonator(p, now); known {
				return f.next(fmt.Sprintf(look, who))
			}
			return f.next(fmt.Sprintf("Find out which of %s is the gateway: its label, or another machine's neighbour table, tells. The "+
				"switch's address table tells the port of the other.", HardwareList(now)))
		case len(now) == 1 && !believed.IsZero() && believed != now[0]:
			return found(Supported,
				fmt.Sprintf("The gateway %v was at %v when this began, and %v answers for it now.", p.Gateway, believed, now[0]),
				fmt.Sprintf("the neighbour table had %v at %v", p.Gateway, believed),
				fmt.Sprintf("asked on the segment, %v answers", now[0])).aside(works).oncePlain(p).
				next(fmt.Sprintf("If the gateway was not replaced just now, find both: %s.", HardwareList(faces)))
		case len(faces) == 1 && len(home.Routers) > 0 && !slices.Contains(home.Routers, faces[0]):
			return found(Supported, fmt.Sprintf("The gateway %v is at %v, which the site sheet does not know.", p.Gateway, faces[0]),
				fmt.Sprintf("the site sheet documents %s", HardwareList(home.Routers))).aside(works).oncePlain(p).
				next(fmt.Sprintf(look, faces[0]))
		case len(now) == 1 && !p.IsOpen(evidence.SegmentFrames):
			return cleared("%v alone answers for %v", now[0], p.Gateway)
		case len(now) == 0 && len(p.Outside) > 0 && !p.IsOpen(evidence.SegmentFrames):
			return cleared("traffic passes the gateway %v", p.Gateway)
		}
		return possible("who answers for %v has not been asked to an end", p.Gateway)
	},
}

// RedundantGateway is no fault: a group of routers shares the gateway's address.
var RedundantGateway = &Fault{
	ID: "redundant-gateway", Zone: zone.LocalSubnet, Scope: OfPlace, Matters: ByReach, Check: "gateway",
	Needs: []evidence.Kind{evidence.GatewayNeighbour},
	Doc: `The gateway is a group of routers
No fault: the gateway's hardware address is one that routers share (VRRP, RFC 9568), so that another takes over when one fails. That its
owner changes is its purpose.`,
	Judge: func(p *facts.Facts) Finding {
		shared, yes := redundant(p)
		if !yes {
			return possible("not seen")
		}
		return found(Confirmed, fmt.Sprintf("The gateway %v is shared by a group of routers (%v): no fault.", p.Gateway, shared))
	},
}

// ProxyARP is no fault: one router answers for many addresses.
var ProxyARP = &Fault{
	ID: "proxy-arp", Zone: zone.LocalSubnet, Scope: OfPlace, Matters: ByReach, Check: "neighbours",
	Needs: []evidence.Kind{evidence.OtherNeighbours, evidence.GatewayNeighbour},
	Doc: `A router answers for others
No fault: the gateway answers ARP for addresses that lie behind it (RFC 1027) and passes on what is sent to them, so that machines whose
mask takes them for neighbours reach them.`,
	Judge: func(p *facts.Facts) Finding {
		own := p.Holders(p.Gateway)
		for _, a := range p.Addresses {
			if a == p.Gateway || !p.OnLink(a) || p.Acid(a) != facts.Yes {
				continue
			}
			for _, h := range p.Holders(a) {
				if slices.Contains(own, h) {
					return found(Confirmed, fmt.Sprintf("The gateway %v answers ARP for %v, which lies behind it: no fault.", p.Gateway, a),
						fmt.Sprintf("%v answers for both", h))
				}
			}
		}
		return possible("not seen")
	},
}
