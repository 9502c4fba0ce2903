package fault

import (
	"fmt"
	"net/netip"
	"slices"
	"time"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/facts"
	"passepartout/internal/core/subnet"
	"passepartout/internal/core/wording"
	"passepartout/internal/core/zone"
)

var addressFaults = []*Fault{NoAddress, SelfAssignedAddress, WrongNetwork, MaskTooNarrow, AddressConflict, DHCPSilent}

// offeredUsable is an offer that could be used on this segment.
func offeredUsable(p *facts.Facts) (evidence.Offer, bool) {
	offers, _ := p.OffersSeen()
	for _, o := range offers {
		if subnet.KindOf(o.Address.Addr()).Routable() {
			return o, true
		}
	}
	return evidence.Offer{}, false
}

// linked is false, with a reason, where the port itself is out of order, so that nothing can be said of what runs over it.
func linked(p *facts.Facts) (string, bool) {
	switch {
	case p.Iface == nil:
		return "there is no interface", false
	case !p.Iface.Up:
		return p.Iface.Name + " is down", false
	case p.Iface.Carrier == endpoint.CarrierAbsent:
		return p.Iface.Name + " has no carrier", false
	}
	return "", true
}

func hasRoutable4(p *facts.Facts) bool { return p.Iface != nil && len(p.Iface.Usable(false)) > 0 }

// judgeNoAddress is the common half of the two faults in which a server would give an address and the host does not have it.
func judgeNoAddress(p *facts.Facts, what string) Finding {
	offer, usable := offeredUsable(p)
	_, over := p.OffersSeen()
	switch {
	case usable:
		return found(Confirmed, fmt.Sprintf("%s %s, though %v offers it %v now.", p.Iface.Name, what, offer.Server, offer.Address),
			fmt.Sprintf("%s %s", p.Iface.Name, what),
			fmt.Sprintf("%v offers %v, router %s", offer.Server, offer.Address, wording.List(offer.Routers))).
			next(fmt.Sprintf("Have %s ask for a lease again: set it to automatic (DHCP), or start the DHCP client that should manage it.",
				p.Iface.Name),
				fmt.Sprintf("It should then get %v with gateway %s.", offer.Address, wording.List(offer.Routers))).
			leases(p, offer)
	case p.IsWithheld(evidence.DHCPOffer):
		return possible("whether a DHCP server would give an address could not be asked")
	case over:
		if home, ok := p.Home(); ok && len(home.DHCP) == 0 {
			if f, own := home.Machine(p.Endpoint.Host, p.Iface.Hardware); own {
				prefix, _ := home.Prefix(f.Address.Is6())
				return found(Confirmed, fmt.Sprintf("%s %s, though the site sheet gives this machine %v.", p.Iface.Name, what, f.Address),
					fmt.Sprintf("%s %s", p.Iface.Name, what),
					fmt.Sprintf("the site sheet has %v for %s, and no DHCP server on %s", f.Address, p.Endpoint.Host, describe(home))).
					inFull(p, f.Address.Is6(), settings{address: netip.PrefixFrom(f.Address, prefix.Bits()),
						gateways: home.Gateways, resolvers: home.Resolvers, who: "the site sheet has"})
			}
		}
		return cleared("no DHCP server offers anything either")
	}
	return possible("no DHCP server has answered yet")
}

// NoAddress: the port is on and has no address to speak with.
var NoAddress = &Fault{
	ID: "no-address", Zone: zone.Host, Place: 30, Scope: OfMachine, Matters: WhileThereIsNoAddress, Check: "address",
	Needs: []evidence.Kind{evidence.Settings, evidence.DHCPOffer}, Explains: []ID{"dhcp-silent"},
	Doc: `No address, though one is to be had
The port is on and connected, and has no IP address, or nothing but an IPv6 link-local one, while a DHCP server offers one at this moment.
The client that should ask for it is not running, not set to this port, or the port is set to a fixed address that is missing. Set the
port to automatic, or enter the fixed address in full.`,
	Judge: func(p *facts.Facts) Finding {
		if why, ok := linked(p); !ok {
			return possible("%s", why)
		}
		if p.HasUsable() {
			return cleared("%s has an address", p.Iface.Name)
		}
		if _, self := p.Iface.SelfAssigned(); self {
			return cleared("%s has given itself an address", p.Iface.Name)
		}
		return judgeNoAddress(p, "has no usable address")
	},
}

// SelfAssignedAddress: the machine gave itself an address though a server is there.
var SelfAssignedAddress = &Fault{
	ID: "self-assigned-address", Zone: zone.Host, Place: 40, Scope: OfMachine, Matters: WhileThereIsNoAddress, Check: "address",
	Needs: []evidence.Kind{evidence.Settings, evidence.DHCPOffer},
	Doc: `The machine gave itself an address
The port has only an address from 169.254.0.0/16, which a machine gives itself when no DHCP server answers (RFC 3927), while a DHCP server
answers now. The server was away when the machine asked, or the answer did not reach it. Have it ask again.`,
	Judge: func(p *facts.Facts) Finding {
		if why, ok := linked(p); !ok {
			return possible("%s", why)
		}
		own, self := p.Iface.SelfAssigned()
		if !self || p.HasUsable() {
			return cleared("%s has no self-assigned address", p.Iface.Name)
		}
		return judgeNoAddress(p, fmt.Sprintf("has only the address %v that it gave itself", own.Prefix.Addr()))
	},
}

// offersTakeAtMost is how long a client waits before it asks for the third time (RFC 2131 §4.1: 4 s, then 8): a server that has not
// answered by then does not serve. Until then it may only be slow.
const offersTakeAtMost = 12 * time.Second

// DHCPSilent: the endpoint depends on a DHCP server, and none answers.
var DHCPSilent = &Fault{
	ID: "dhcp-silent", Zone: zone.LocalSubnet, Place: 40, Scope: OfSocket, Matters: WhileThereIsNoAddress, Check: "dhcp",
	Needs: []evidence.Kind{evidence.Settings, evidence.DHCPOffer}, OnSilence: true,
	Doc: `No DHCP server answers
The machine has no address, or only one that it gave itself, and no DHCP server answers its question. The server is off, its range is used
up, a relay is missing, or the port leads into the wrong network. It is taken for a fault of the machine. See whether other machines on
the segment get addresses; if none does, it is the server.`,
	Judge: func(p *facts.Facts) Finding {
		if why, ok := linked(p); !ok {
			return possible("%s", why)
		}
		_, ended, _ := overdue(p)
		if hasRoutable4(p) && !ended {
			return cleared("%s does not depend on it: it has an address", p.Iface.Name)
		}
		if p.HasUsable() && !hasRoutable4(p) && p.Usable() == facts.Yes {
			return cleared("%s works over IPv6 without it", p.Iface.Name)
		}
		if slices.ContainsFunc(p.Iface.Addresses, func(a endpoint.Address) bool { return a.Duplicate }) {
			return cleared("an address is set, and another machine has it")
		}
		if sixAlone(p) {
			return cleared("%s speaks IPv6 alone, and nothing that was asked for needs IPv4", p.Iface.Name)
		}
		offers, over := p.OffersSeen()
		switch {
		case len(offers) > 0:
			return cleared("%v offers %v", offers[0].Server, offers[0].Address)
		case p.Discovery != nil && len(p.Discovery.Refusals) > 0:
			return cleared("%v answers, and refuses", p.Discovery.Refusals[0])
		case p.Discovery != nil && len(p.Discovery.Serving) > 0:
			return cleared("%v serves others", p.Discovery.Serving[0])
		case p.IsWithheld(evidence.DHCPOffer):
			return possible("DHCP servers could not be asked")
		case !over || p.Discovery.Discovers < 2:
			return possible("no DHCP server has answered yet")
		}
		heard := "nobody else was heard on the segment"
		if len(p.Heard) > 0 {
			heard = fmt.Sprintf("meanwhile %s spoke on the segment", wording.Plural(len(p.Heard), "other machine", "other machines"))
		}
		standing := Supported
		if p.Discovery.Waited >= offersTakeAtMost {
			standing = Confirmed
		}
		return found(standing, fmt.Sprintf("No DHCP server answers on this segment, and %s %s.", p.Iface.Name, without(p)),
			fmt.Sprintf("%d discovers within %s, no offer", p.Discovery.Discovers, wording.Millis(p.Discovery.Waited)), heard).
			aside(hasRoutable4(p) && (!ended || len(p.Outside) > 0)).
			next("See whether other machines on this segment get an address; if none does, look after the DHCP server or the relay that "+
				"leads to it.",
				"If others do, look at the switch port of this one: it may be in the wrong network.")
	},
}

// sixAlone reports whether the machine is set for IPv6 alone, and neither the target nor a name server needs IPv4.
func sixAlone(p *facts.Facts) bool {
	_, self := p.Iface.SelfAssigned()
	return !self && !hasRoutable4(p) && len(p.Iface.Usable(true)) > 0 && !slices.ContainsFunc(p.Addresses, netip.Addr.Is4) &&
		!slices.ContainsFunc(p.Resolvers, func(r facts.ResolverFact) bool { return r.Address.Is4() })
}

// shorterOffer is an offer that shows the mask of a to be too long: its prefix is the wider one, and holds a.
func shorterOffer(p *facts.Facts, a endpoint.Address) (said, bool) {
	for _, o := range saidOf(p, a) {
		if o.Address.Bits() < a.Prefix.Bits() && o.Address.Masked().Contains(a.Prefix.Addr()) {
			return o, true
		}
	}
	return said{}, false
}

// leftOut is the address that the mask leaves out although it is on the segment: an offered router, or a gateway that answers.
func leftOut(p *facts.Facts, a endpoint.Address) (netip.Addr, string, bool) {
	if o, ok := shorterOffer(p, a); ok {
		for _, r := range o.Routers {
			if !a.Prefix.Masked().Contains(r) {
				return r, fmt.Sprintf("%s %v with router %v", o.Who, o.Address, r), true
			}
		}
		for _, t := range p.Addresses {
			if o.Address.Masked().Contains(t) && !a.Prefix.Masked().Contains(t) {
				return t, fmt.Sprintf("%s %v, which holds %v", o.Who, o.Address, t), true
			}
		}
	}
	if p.Gateway.Is4() && !p.OnLink(p.Gateway) {
		if n, ok := p.Neighbour(p.Gateway); ok && n.Outcome == evidence.Answered {
			return p.Gateway, fmt.Sprintf("%v answers ARP on the segment", p.Gateway), true
		}
	}
	return netip.Addr{}, "", false
}

// MaskTooNarrow: the mask leaves out what is on the segment.
var MaskTooNarrow = &Fault{
	ID: "mask-too-narrow", Zone: zone.Host, Place: 70, Scope: OfMachine, Matters: ByReach, Check: "address",
	Needs: []evidence.Kind{evidence.Settings, evidence.DHCPOffer, evidence.GatewayNeighbour},
	Doc: `The mask is too narrow
The mask of this machine's address leaves out the gateway, or neighbours, that are on the same segment. Linux then refuses a gateway
outside the mask, so that the default route is often missing as well and only the mask is the cause. Set address, mask, gateway and
resolvers together: changing one alone may lose the others.`,
	Judge: func(p *facts.Facts) Finding {
		a, ok := p.Address4()
		if !ok {
			return possible("there is no address whose mask could be judged")
		}
		if a.Prefix.Bits() == 32 {
			return cleared("%v is a single address by intent, with its gateway declared to be on the link", a.Prefix)
		}
		out, why, ok := leftOut(p, a)
		if o, shorter := shorterOffer(p, a); !ok && shorter && p.Usable() == facts.Yes && !leaseHasMask(p, a.Prefix.Bits()) {
			return found(Supported, fmt.Sprintf("The mask of %v is narrower than it should be: %s %v.", a.Prefix, o.Who, o.Address)).
				aside(true).
				inFull(p, false,
					settings{address: netip.PrefixFrom(a.Prefix.Addr(), o.Address.Bits()), gateways: o.Routers, resolvers: o.Resolvers,
						who: o.Who})
		}
		if !ok {
			_, over := p.OffersSeen()
			if over || p.Forwards == facts.Yes {
				return cleared("the mask of %v leaves nothing out that was seen on the segment", a.Prefix)
			}
			return possible("nothing tells yet what the mask should be")
		}
		f := found(Confirmed, fmt.Sprintf("The mask of %v is too narrow: it leaves out %v, which is on the same segment.", a.Prefix, out),
			fmt.Sprintf("%v covers %v to %v", a.Prefix, a.Prefix.Masked().Addr(), subnet.Last(a.Prefix)), why)
		if o, ok := shorterOffer(p, a); ok {
			f = f.inFull(p, false,
				settings{address: netip.PrefixFrom(a.Prefix.Addr(), o.Address.Bits()), gateways: o.Routers, resolvers: o.Resolvers,
					who: o.Who})
		} else {
			f = f.next("Ask for the segment's real mask and set address, mask and gateway together.")
		}
		return f
	},
}

// WrongNetwork: the address belongs to another network than the segment.
var WrongNetwork = &Fault{
	ID: "wrong-network", Zone: zone.Host, Place: 60, Scope: OfPlace, Matters: ByReach, Check: "address",
	Needs: []evidence.Kind{evidence.Settings, evidence.DHCPOffer, evidence.OtherNeighbours, evidence.SegmentFrames,
		evidence.GatewayNeighbour},
	Explains: []ID{"gateway-silent", "segment-isolated", "resolver-silent-local", "resolver-silent", "wrong-segment"},
	Doc: `The address belongs to another network
The machine's address is from a network that is not on this segment: it was carried here from elsewhere, or typed wrongly. Offers, and
what is heard on the segment, speak of another network, and nobody in the configured one answers. It is taken for a dead gateway. Set the
port to automatic, or to an address of this segment.`,
	Judge: func(p *facts.Facts) Finding {
		a, ok := p.Address4()
		if !ok {
			return wrongNetwork6(p)
		}
		if p.Alive == facts.Yes && p.OnLink(p.Gateway) {
			return cleared("the gateway %v of the configured network answers", p.Gateway)
		}
		for _, other := range p.Others {
			if a.Prefix.Masked().Contains(other) {
				return cleared("%v of the configured network answers", other)
			}
		}
		offers, over := p.OffersSeen()
		if l, ended, _ := overdue(p); ended && len(offers) > 0 && l.Terms.Address == a.Prefix.Addr() {
			return cleared("the lease of %v has run out: that explains it", a.Prefix.Addr())
		}
		for _, o := range offers {
			if o.Address.Masked().Contains(a.Prefix.Addr()) || a.Prefix.Masked().Contains(o.Address.Addr()) {
				return cleared("%v offers %v, of the same network", o.Server, o.Address)
			}
		}
		if len(offers) > 0 {
			o := offers[0]
			all := completed(p, false, settings{address: o.Address, gateways: o.Routers, resolvers: o.Resolvers,
				who: fmt.Sprintf("%v offers", o.Server)})
			return found(Confirmed,
				fmt.Sprintf("The address %v does not belong to this segment, which is %v.", a.Prefix, o.Address.Masked()),
				fmt.Sprintf("%v offers %v", o.Server, o.Address), fmt.Sprintf("nobody in %v answers", a.Prefix.Masked())).
				next(fmt.Sprintf("Set %s to automatic (DHCP); it should get %v with gateway %s and resolvers %s.", p.Iface.Name, o.Address,
					wording.List(o.Routers), wording.List(o.Resolvers)),
					"If it must be set by hand: "+all.text(false)+".").
				together(p, false, all)
		}
		if n := strangers(p, a.Prefix); n >= 2 && p.SweepDone && over {
			return found(Supported,
				fmt.Sprintf("The address %v does not seem to belong to this segment: %d machines are heard, none of that network.",
					a.Prefix, n)).
				next("Compare the address with that of a working neighbour on the same switch.")
		}
		return possible("nothing heard tells which network the segment is")
	},
}

// wrongNetwork6 judges a machine with IPv6 addresses alone, by what the segment's routers advertise.
func wrongNetwork6(p *facts.Facts) Finding {
	if p.Iface == nil || len(p.Iface.Usable(true)) == 0 {
		return possible("there is no address to compare")
	}
	own := p.Iface.Usable(true)[0].Prefix
	if p.Alive == facts.Yes {
		return cleared("the gateway %v answers", p.Gateway)
	}
	for _, other := range p.Others {
		if own.Masked().Contains(other) {
			return cleared("%v of the configured network answers", other)
		}
	}
	var prefixes []string
	for _, r := range p.Routers6 {
		for _, x := range r.Prefixes {
			if x.Prefix.Masked().Contains(own.Addr()) {
				return cleared("%v advertises %v, in which the address lies", r.Router, x.Prefix)
			}
			prefixes = append(prefixes, fmt.Sprintf("%v advertises %v", r.Router, x.Prefix))
		}
	}
	if len(prefixes) == 0 || p.Alive != facts.No {
		return possible("no router has said which network the segment is")
	}
	return found(Confirmed, fmt.Sprintf("The address %v does not belong to this segment: %s.", own, prefixes[0]),
		append(prefixes, fmt.Sprintf("nobody in %v answers", own.Masked()))...).
		next(fmt.Sprintf("Set %s to take its address from router advertisements, or to an address of the advertised prefix.", p.Iface.Name))
}

// strangers counts the machines heard with IPv4 addresses outside of every prefix of the port.
func strangers(p *facts.Facts, own netip.Prefix) (n int) {
	for _, h := range p.Heard {
		if h.Address.Is4() && !own.Masked().Contains(h.Address) && subnet.KindOf(h.Address).Routable() {
			n++
		}
	}
	return n
}

// mostOwn is how many addresses a machine may be expected to have on one segment.
const mostOwn = 16

// AddressConflict: somebody else has our address.
var AddressConflict = &Fault{
	ID: "address-conflict", Zone: zone.LocalSubnet, Place: 10, Scope: OfPlace, Matters: ByReach, Check: "conflict",
	Needs:     []evidence.Kind{evidence.AddressConflict},
	OfQuality: true, Explains: []ID{"dhcp-silent", "segment-lossy", "path-lossy", "service-slow"},
	Doc: `Another machine uses the same address
A second machine on the segment answers for this machine's own address. Traffic goes now to the one, now to the other, so that connections
work and break by turns. It is taken for a bad cable. Find the other machine by its hardware address, and give one of the two another
address.`,
	Judge: func(p *facts.Facts) Finding {
		asked := false
		var unknown evidence.Conflict
		for _, c := range p.Conflicts {
			if c.Outcome == evidence.Answered && c.Hardware == (endpoint.HardwareAddr{}) {
				unknown = c
				continue
			}
			if c.Outcome == evidence.Answered {
				standing := Confirmed
				if n := p.Claims(c.Hardware); n > mostOwn { // a flood, or one who answers for everybody
					standing = Supported
				}
				return found(standing, fmt.Sprintf("Another machine, %v, uses this machine's address %v.", c.Hardware, c.Address),
					fmt.Sprintf("%v answers for %v", c.Hardware, c.Address)).
					next(fmt.Sprintf("Find the machine with hardware address %v: the switch's address table tells its port.", c.Hardware),
						"Give one of the two another address.")
			}
			asked = asked || c.Outcome == evidence.Silent
		}
		if unknown.Address.IsValid() {
			return found(Confirmed,
				fmt.Sprintf("Another machine uses this machine's address %v: the system has found a duplicate, and does not use it.",
					unknown.Address), "the system marks the address as a duplicate (RFC 4862 §5.4)").
				next(fmt.Sprintf("Find the machine that has %v: with permission for raw frames its hardware address is told here.",
					unknown.Address), "Give one of the two another address.")
		}
		if asked && !p.IsOpen(evidence.AddressConflict) {
			return cleared("nobody else answers for this machine's address")
		}
		return possible("whether somebody else uses the address has not been seen")
	},
}
