package fault

import (
	"fmt"
	"net/netip"
	"slices"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/facts"
	"passepartout/internal/core/wording"
	"passepartout/internal/core/zone"
)

var segmentFaults = []*Fault{SegmentIsolated, GatewaySilent, GatewayDoesNotForward, ResolverSilentLocal}

func segmentName(p *facts.Facts) string {
	if p.Gateway.IsValid() && p.Iface != nil {
		if prefix, ok := p.Iface.PrefixFor(p.Gateway); ok {
			return prefix.Masked().String()
		}
	}
	if a, ok := p.Address4(); ok {
		return a.Prefix.Masked().String()
	}
	return "the segment"
}

// SegmentIsolated: there is a carrier, and nobody is there.
var SegmentIsolated = &Fault{
	ID: "segment-isolated", Zone: zone.LocalSubnet, Place: 30, Scope: OfSocket, Matters: ByReach, Check: "neighbours",
	Needs: []evidence.Kind{evidence.Settings, evidence.GatewayNeighbour, evidence.OtherNeighbours, evidence.DHCPOffer}, OnSilence: true,
	Doc: `Nobody on the segment answers
The cable has a signal and nobody at all answers or is heard: the socket leads into the wrong network, the switch port is isolated or
waits for a log-in, or the switch is cut off from the rest. It is taken for a dead gateway. Try another socket, or this socket with a
machine that works elsewhere.`,
	Judge: func(p *facts.Facts) Finding {
		if why, ok := p.Ready(); !ok {
			return possible("%s", why)
		}
		switch {
		case p.Alive == facts.Yes:
			return cleared("the gateway %v answers", p.Gateway)
		case len(p.Others) > 0:
			return cleared("%s: %s", wording.Plural(len(p.Others), "neighbour answers", "neighbours answer"), wording.List(p.Others))
		case len(p.Heard) > 0:
			return cleared("%s was heard on the segment", p.Heard[0].Address)
		}
		if offers, _ := p.OffersSeen(); len(offers) > 0 {
			return cleared("%v answers on the segment", offers[0].Server)
		}
		if p.IsOpen(evidence.OtherNeighbours, evidence.GatewayNeighbour) || !p.SweepDone {
			return possible("the neighbours have not all been asked yet")
		}
		if p.Endpoint.Inside(*p.Iface) {
			return found(Supported, fmt.Sprintf("Nobody on the bridge %s of this machine answers.", p.Iface.Name),
				fmt.Sprintf("%s asked, none answered", wording.Plural(p.Swept, "address", "addresses")),
				p.Iface.Name+" leads to no cable: containers or virtual machines stand on it").in(zone.Host).
				next(insideNext(p.Iface.Name)...)
		}
		if p.IsWithheld(evidence.SegmentFrames) { // who speaks here cannot be heard: the address may be another network's
			f := possible("whether others speak on this segment, with addresses of another network, could not be listened for")
			f.For = []string{fmt.Sprintf("%s asked, none answered", wording.Plural(p.Swept, "address", "addresses"))}
			return f
		}
		asked := wording.Plural(p.Swept, "address", "addresses") + " asked, none answered"
		sentence := fmt.Sprintf("Nobody on %s answers: neither the gateway nor any of %s asked.", segmentName(p),
			wording.Plural(p.Swept, "address", "addresses"))
		if p.Swept == 0 { // IPv6 alone
			asked, sentence = "all nodes were called (ff02::1), none answered",
				"Nobody on this segment answers: neither the gateway nor anybody to a call to all."
		}
		return found(Confirmed, sentence, asked, "carrier is there").
			next("Plug this machine into another socket that works, or a working machine into this one.",
				"Ask whoever looks after the switch in which network its port is, and whether it waits for a log-in.")
	},
}

// GatewaySilent: the segment is alive, the gateway on it is not.
var GatewaySilent = &Fault{
	ID: "gateway-silent", Zone: zone.LocalSubnet, Place: 90, Scope: OfEverybody, Matters: ByReach, Check: "gateway",
	Needs: []evidence.Kind{evidence.Settings, evidence.GatewayNeighbour, evidence.OtherNeighbours, evidence.DHCPOffer}, OnSilence: true,
	Doc: `The gateway does not answer
Neighbours on the segment answer and the gateway does not, not even with its hardware address: it is off, unplugged, or on another
segment. Everybody on the segment is cut off from the rest. It is taken for a fault of the provider. See that the gateway has power and
that its port on the switch is lit.`,
	Judge: func(p *facts.Facts) Finding {
		if why, ok := p.Ready(); !ok {
			return possible("%s", why)
		}
		if !p.Gateway.IsValid() {
			return possible("no gateway is set")
		}
		if p.Alive == facts.Yes {
			return cleared("%v answers", p.Gateway)
		}
		if !p.OnLink(p.Gateway) && !p.Gateway.IsLinkLocalUnicast() && !p.GatewayDeclared() {
			return possible("%v lies outside the subnet, so its silence proves nothing", p.Gateway)
		}
		if p.Alive == facts.Unknown {
			return possible("the gateway has not been asked to an end")
		}
		if fact, is := astray(p); is {
			return cleared("it is not the gateway that is at fault: %s", fact)
		}
		if doubt, is := leaseDoubt(p); is {
			return possible("%s", doubt)
		}
		for _, a := range p.Addresses { // who set the rule may have meant a router that is off
			if rule, route, main, is := ledAway(p, a); is && route.Via == p.Gateway {
				if asked, _ := handedTo(p, main.Via); !asked {
					return possible("%v leads to %v; whether %s, as the main table has it, would lead on is not known", rule, p.Gateway,
						wayOf(main))
				}
			}
		}
		if p.GatewayFromDHCP() && p.IsOpen(evidence.Handoffs) {
			return possible("whether another machine on the segment is the router is still being asked").awaiting(evidence.Handoffs)
		}
		offers, _ := p.OffersSeen()
		if len(p.Others) == 0 && len(offers) == 0 {
			return possible("nobody answers, so silence proves nothing about the gateway")
		}
		n, _ := p.Neighbour(p.Gateway)
		reasons := []string{
			fmt.Sprintf("%v: %s within %s, no answer", p.Gateway, wording.Plural(n.Asks, "request", "requests"), wording.Millis(n.Waited))}
		if len(p.Others) > 0 {
			reasons = append(reasons, fmt.Sprintf("answered: %s", wording.List(p.Others)))
		}
		if router, server, ok := otherRouter(p, offers); ok {
			return found(Confirmed,
				fmt.Sprintf("The gateway set on this machine, %v, does not answer; the segment's router is %v.", p.Gateway, router),
				append(reasons, namedBy(server, router, p.Gateway))...).in(zone.Host).
				next(fmt.Sprintf("Set the gateway to %v in place of %v.", router, p.Gateway)).
				inFull(p, router.Is6(), settings{gateways: []netip.Addr{router}})
		}
		others := fmt.Sprintf("%s on %s %s", wording.Plural(len(p.Others), "neighbour", "neighbours"), segmentName(p),
			map[bool]string{true: "does", false: "do"}[len(p.Others) == 1])
		if len(p.Others) == 0 {
			others = fmt.Sprintf("the DHCP server %v does", offers[0].Server)
		}
		return found(Confirmed, fmt.Sprintf("The gateway %v does not answer, while %s.", p.Gateway, others), reasons...).
			next(fmt.Sprintf("See that the gateway %v has power and that its port on the switch is lit, then run again.", p.Gateway),
				"Ask a neighbour on the same segment whether it is cut off as well.")
	},
}

// namedBy says who names another router; a server of zero is the site sheet.
func namedBy(server, router, gateway netip.Addr) string {
	if !server.IsValid() {
		return fmt.Sprintf("the site sheet has the gateway %v, and not %v", router, gateway)
	}
	return fmt.Sprintf("%v offers router %v, and not %v", server, router, gateway)
}

// otherRouter is a router that the site sheet, or else every offer, names in place of the one that is set, on a machine whose setting did
// not come from DHCP.
func otherRouter(p *facts.Facts, offers []evidence.Offer) (router, server netip.Addr, ok bool) {
	if !p.Gateway.Is4() || p.GatewayFromDHCP() || !p.ByDefault() {
		return router, server, false
	}
	if home, ok := p.Here(); ok { // what is documented counts more than what is offered
		if documented, ok := home.Gateway(false); ok {
			return documented, server, documented != p.Gateway
		}
	}
	for _, o := range offers {
		if slices.Contains(o.Routers, p.Gateway) || len(o.Routers) == 0 {
			return netip.Addr{}, netip.Addr{}, false
		}
		router, server, ok = o.Routers[0], o.Server, true
	}
	return router, server, ok
}

// GatewayDoesNotForward: the gateway is there, and nothing passes it.
var GatewayDoesNotForward = &Fault{
	ID: "gateway-does-not-forward", Zone: zone.LocalSubnet, Place: 120, Scope: OfEverybody, Matters: AboutTheGateway, Check: "forwarding",
	Needs: []evidence.Kind{evidence.GatewayNeighbour, evidence.PathTrace, evidence.SegmentFrames, evidence.NameLookup}, OnSilence: true,
	Doc: `The gateway is there and passes nothing on
The gateway answers on the segment, and nothing that is sent through it comes back, not even its own word that a packet's hop limit ran
out. Its forwarding is off, or its filter drops everything. A gateway that keeps silent altogether behind a dead uplink looks the same.
Restart it, and look at its forwarding and filter settings.`,
	Judge: func(p *facts.Facts) Finding {
		if p.Alive != facts.Yes {
			return possible("the gateway has not answered")
		}
		switch p.Forwards {
		case facts.Yes:
			return cleared("%v passes traffic on, or says why it cannot", p.Gateway)
		case facts.Unknown:
			return possible("what the gateway does with traffic has not been seen to an end")
		}
		if p.IsWithheld(evidence.SegmentFrames) {
			return possible("what arrives at the interface could not be watched, so this machine's own filter is not ruled out")
		}
		if _, _, swallowed := swallowed(p); swallowed {
			return cleared("answers do come back, and this machine loses them")
		}
		if fact, is := astray(p); is {
			return cleared("it is not the gateway that is at fault: %s", fact)
		}
		return found(Supported, fmt.Sprintf("The gateway %v answers on the segment and passes nothing on, without a word.", p.Gateway),
			"packets with a hop limit of 1 bring nothing back", "nothing beyond it answers").
			next(fmt.Sprintf("Look at the gateway %v: is forwarding on, does its filter drop everything, has its uplink a signal?",
				p.Gateway))
	},
}

// ResolverSilentLocal: a name server on the segment that does not serve.
var ResolverSilentLocal = &Fault{
	ID: "resolver-silent-local", Zone: zone.LocalSubnet, Place: 130, Scope: OfEverybody, Matters: ByReach, Check: "names",
	Needs: []evidence.Kind{evidence.NameLookup, evidence.OtherNeighbours}, OnSilence: true,
	Doc: `The name server on this segment does not answer
The DNS server that this machine asks is on its own segment and does not answer: the service has stopped, or the machine is off. Addresses
work and names do not, and "the Internet is down". Start the service, or let the machines ask another server meanwhile.`,
	Judge: func(p *facts.Facts) Finding { return formerly(p, judgeSilentResolver(p, true)) },
}
