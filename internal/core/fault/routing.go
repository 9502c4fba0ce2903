package fault

import (
	"fmt"
	"net/netip"
	"slices"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/facts"
	"passepartout/internal/core/subnet"
	"passepartout/internal/core/wording"
	"passepartout/internal/core/zone"
)

var routingFaults = []*Fault{GatewayOutsideSubnet, GatewayNotSet, RouteByRuleWrong, RouteBlocked, HostFirewall, ResolverNotSet}

// refusing gives the answer of a route look-up that refuses traffic to the target by an entry of its own.
func refusing(p *facts.Facts) (endpoint.RouteAnswer, bool) {
	for _, a := range p.Addresses {
		if _, _, _, by := ledAway(p, a); by {
			continue // a rule's
		}
		if r, ok := p.RouteTo(a); ok &&
			(r.Verdict == endpoint.Blackhole || r.Verdict == endpoint.UnreachableRoute || r.Verdict == endpoint.ProhibitedRoute) {
			return r, true
		}
	}
	return endpoint.RouteAnswer{}, false
}

// behindRoute are the faults that show behind a next hop that passes nothing on.
var behindRoute = []ID{"gateway-silent", "gateway-not-a-router", "gateway-does-not-forward", "uplink-down", "path-stops",
	"destination-silent", "service-filtered"}

// RouteBlocked: an entry of the routing table refuses the target.
var RouteBlocked = &Fault{
	ID: "route-blocked", Zone: zone.Host, Place: 130, Scope: OfMachine, Matters: ByReach, Check: "route",
	Needs: []evidence.Kind{evidence.Settings, evidence.RouteLookup}, Explains: behindRoute,
	Doc: `A route on this machine stands in the way
The machine's own routing table has an entry that drops, refuses or prohibits traffic to the target, or sends it to a next hop that passes
nothing on. It was set on purpose once, or left behind by a program. Everything else works, so the far service is blamed. Delete the
entry, and find out what set it.`,
	Judge: func(p *facts.Facts) Finding {
		r, ok := refusing(p)
		switch {
		case ok:
			return found(Confirmed,
				fmt.Sprintf("A route on this machine is in the way of %v: the system's own answer is \"%v\".", r.To, r.Verdict),
				fmt.Sprintf("route look-up for %v: %v", r.To, r.Verdict)).
				next(fmt.Sprintf(
					"Find the entry and delete it: ip route show table all | grep -e blackhole -e unreachable -e prohibit, for %v.", r.To))
		case len(p.Addresses) == 0:
			return possible("the target's address is not known")
		case !p.Routed():
			return possible("the system has not said yet how it reaches the target")
		}
		route, usual, is := specific(p)
		switch {
		case !is:
			return cleared("the system knows a way to %s", wording.List(p.Addresses))
		case p.Usable() == facts.Yes:
			return cleared("the target is reached by the route for %v", route.To)
		case cameBy(p, route):
			return cleared("%v, to which the route for %v leads, passes traffic on", route.Via, route.To)
		case p.Usable() == facts.Unknown || p.IsOpen(evidence.PathTrace):
			return possible("whether %v passes traffic on is still being asked", route.Via).awaiting(evidence.PathTrace)
		}
		witness, works := byDefault(p, route)
		if !works {
			return possible("nothing comes back by %v, to which the route for %v leads, and nothing by the default gateway either",
				route.Via, route.To)
		}
		standing, how := Supported, ""
		switch asked, through := handedTo(p, usual); {
		case through:
			standing, how = Confirmed, fmt.Sprintf("handed to %v, a packet for the target is answered", usual)
		case p.IsOpen(evidence.Handoffs):
			return possible("whether the default gateway %v leads to the target is still being asked", usual).awaiting(evidence.Handoffs)
		case asked:
			return cleared("by the default gateway %v the target does not answer either: it is not the route", usual)
		default:
			if n, known := p.Neighbour(route.Via); known && n.Outcome == evidence.Silent { // the route may be right, and the router off
				return possible(
					"%v, to which the route for %v leads, keeps silent; whether the default gateway leads there could not be asked",
					route.Via, route.To)
			}
		}
		f := found(standing,
			fmt.Sprintf("A route on this machine sends traffic for %v to %v, which passes nothing on; the default gateway %v works.",
				route.To, route.Via, usual),
			fmt.Sprintf("the routing table has %v by %v through %s", route.To, route.Via, route.Interface), "nothing comes back by it",
			fmt.Sprintf("by the default gateway %v, %v answers", usual, witness))
		if how != "" {
			f.For = append(f.For, how)
		}
		return f.next(fmt.Sprintf(
			"Delete the route for %v by %v if nobody needs it, and find out what set it: traffic then takes the default gateway %v.",
			route.To, route.Via, usual)).
			without(fmt.Sprintf("Take the route for %v by %v away", route.To, route.Via), route)
	},
}

// handedTo tells whether a packet for the target was handed to a router to the end, and whether the target itself answered it.
func handedTo(p *facts.Facts, router netip.Addr) (asked, through bool) {
	for _, a := range p.Addresses {
		was, came := p.HandedTo(router, a)
		asked, through = asked || was, through || came
	}
	return asked, through
}

// specific is the route of its own that the target has, past the default gateway, which is given too.
func specific(p *facts.Facts) (route endpoint.Route, usual netip.Addr, ok bool) {
	if p.Endpoint == nil {
		return route, usual, false
	}
	for _, a := range p.Addresses {
		answer, known := p.RouteTo(a)
		defaults := p.Endpoint.DefaultRoutes(a.Is6())
		if !known || !answer.Via.IsValid() || len(defaults) == 0 || defaults[0].Via == answer.Via ||
			defaults[0].Interface != answer.Interface {
			continue
		}
		for _, r := range p.Endpoint.Routes {
			if r.Via == answer.Via && !r.IsDefault() && p.Endpoint.OfMain(r) && r.To.Contains(a) {
				return r, defaults[0].Via, defaults[0].Via.IsValid()
			}
		}
	}
	return route, usual, false
}

// cameBy reports whether anything came back from beyond by a route of its own.
func cameBy(p *facts.Facts, route endpoint.Route) (came bool) {
	p.EachReply(func(asked netip.Addr, r evidence.Reply, hop int) {
		came = came || route.To.Contains(asked) && r.Came() && !p.Owns(r.From) && (r.From != route.Via || r.Outcome == evidence.Expired)
	})
	return came
}

// byDefault is somebody beyond who answered though his address is not one of the route's own.
func byDefault(p *facts.Facts, route endpoint.Route) (witness netip.Addr, ok bool) {
	p.EachReply(func(asked netip.Addr, r evidence.Reply, hop int) {
		if !route.To.Contains(asked) && asked.Is6() == route.To.Addr().Is6() && p.BeyondGateway(r, hop) && !ok {
			witness, ok = r.From, true
		}
	})
	return witness, ok
}

// wantsDefault reports whether anything that was asked for needs a default route: the target, or the resolver that must name it.
func wantsDefault(p *facts.Facts) (of netip.Addr, yes bool) {
	for _, a := range p.Addresses {
		if r, ok := p.RouteTo(a); ok && r.Verdict == endpoint.NoRoute {
			return a, true
		}
	}
	if len(p.Addresses) > 0 {
		return netip.Addr{}, false
	}
	for _, r := range p.Resolvers {
		if !r.OnLink {
			return r.Address, true
		}
	}
	return netip.Addr{}, p.Target.IsZero() || p.NeedsName()
}

// GatewayNotSet: there is no default route.
var GatewayNotSet = &Fault{
	ID: "gateway-not-set", Zone: zone.Host, Place: 100, Scope: OfMachine, Matters: ByReach, Check: "route",
	Needs: []evidence.Kind{evidence.Settings, evidence.RouteLookup, evidence.DHCPOffer},
	Doc: `No gateway is set
The machine has an address and no default route, so that it can speak with its neighbours and with nobody else. The gateway was forgotten,
or the system refused it because it lay outside the mask, or it vanished when the port was down. Set address, mask, gateway and resolvers
together.`,
	Judge: func(p *facts.Facts) Finding {
		if why, ok := p.Ready(); !ok {
			return possible("%s", why)
		}
		for _, v6 := range []bool{false, true} {
			if len(p.Endpoint.DefaultRoutes(v6)) > 0 && (!v6 || !hasRoutable4(p)) {
				return cleared("there is a default route")
			}
		}
		if p.Usable() == facts.Yes {
			if p.TargetOnLink() || p.Target.IsZero() {
				return found(Confirmed, "No default gateway is set: this machine reaches its own segment only.").aside(true)
			}
			return cleared("the target is reached by a route of its own")
		}
		if a, ok := p.Address4(); ok {
			if out, why, narrow := leftOut(p, a); narrow {
				return possible("no default route, and the mask of %v explains it: %v would be refused as a gateway (%s)", a.Prefix, out,
					why)
			}
		}
		of, wanted := wantsDefault(p)
		if !wanted && len(p.Addresses) > 0 {
			return found(Confirmed, "No default gateway is set: this machine reaches its own segment only.").aside(true)
		}
		if p.NeedsName() && len(p.Addresses) == 0 && p.IsOpen(evidence.NameLookup) {
			return possible("the target's address is not known yet")
		}
		sentence := "No gateway is set on this machine, so nothing beyond its own segment can be reached."
		reasons := []string{"the routing table has no default route"}
		if of.IsValid() {
			reasons = append(reasons, fmt.Sprintf("route look-up for %v: no route", of))
		}
		if domain := p.Iface.VRF; domain != "" && p.Endpoint.RoutedIn(p.Iface.VRFTable, of.Is6()) {
			return found(Confirmed,
				fmt.Sprintf("%s belongs to the VRF %s, and programs outside of that have no gateway.", p.Iface.Name, domain),
				append(reasons, fmt.Sprintf("the default route stands in table %d, which is the VRF's own", p.Iface.VRFTable))...).
				next(fmt.Sprintf("Start the program in the VRF %s, and run this program there too (ip vrf exec %s).", domain, domain),
					fmt.Sprintf("If %s is meant for all programs, take it out of the VRF.", p.Iface.Name))
		}
		f := found(Confirmed, sentence, reasons...)
		if offers, _ := p.OffersSeen(); len(offers) > 0 && len(offers[0].Routers) > 0 {
			o := offers[0]
			return f.next(fmt.Sprintf("Set the gateway to %s, as %v offers it.", wording.List(o.Routers), o.Server)).
				inFull(p, false, settings{gateways: o.Routers, resolvers: o.Resolvers, who: fmt.Sprintf("%v offers", o.Server)})
		}
		if home, ok := p.Here(); ok {
			if gw, documented := home.Gateway(of.Is6()); documented {
				return f.next(fmt.Sprintf("Set the gateway to %v, as the site sheet has it.", gw)).
					inFull(p, of.Is6(), settings{gateways: []netip.Addr{gw}, who: "the site sheet has"})
			}
		}
		if r, gave, advertised := advertised(p); advertised && (of.Is6() || !hasRoutable4(p)) {
			f.For = append(f.For, gave)
			if r.Lifetime == 0 {
				return f.next(fmt.Sprintf("Look at the router %v: it advertises itself with a lifetime of 0 s, which means that it is "+
					"no default router (RFC 4861 §6.3.4).", r.Router),
					"Ask whoever looks after it whether another router should stand in for it.")
			}
			return f.next(
				fmt.Sprintf("See that this machine accepts router advertisements on %s, or set the gateway to %v by hand.", p.Iface.Name,
					r.Router)).
				inFull(p, true, settings{gateways: []netip.Addr{r.Router}, resolvers: r.Resolvers, who: fmt.Sprintf("%v advertises", r.Router)})
		}
		return f.next("Set the gateway. A working neighbour on the same segment shows which one.")
	},
}

// advertised is what an IPv6 router says of itself as a default router, in words too.
func advertised(p *facts.Facts) (r evidence.Advertisement, words string, ok bool) {
	for _, x := range p.Routers6 {
		if !ok || x.Lifetime > r.Lifetime {
			r, ok = x, true
			words = fmt.Sprintf("%v advertises itself as a default router for %s", x.Router, x.Lifetime)
			if x.Lifetime == 0 {
				words = fmt.Sprintf("%v advertises itself, with a lifetime of 0 s: as no default router", x.Router)
			}
		}
	}
	return r, words, ok
}

// GatewayOutsideSubnet: the gateway is in no prefix of this machine, and nobody answers for it.
var GatewayOutsideSubnet = &Fault{
	ID: "gateway-outside-subnet", Zone: zone.Host, Place: 90, Scope: OfMachine, Matters: ByReach, Check: "route",
	Needs: []evidence.Kind{evidence.Settings, evidence.GatewayNeighbour},
	Doc: `The gateway lies outside the subnet
The default gateway's address lies in none of the machine's prefixes and does not answer on the segment: nearly always an octet typed
wrongly. Compare address, mask and gateway octet by octet, and set them together.`,
	Judge: func(p *facts.Facts) Finding {
		if why, ok := p.Ready(); !ok {
			return possible("%s", why)
		}
		if !p.Gateway.IsValid() {
			return possible("no gateway is set")
		}
		if p.Gateway.IsLinkLocalUnicast() || p.OnLink(p.Gateway) {
			return cleared("%v lies within the machine's own prefix", p.Gateway)
		}
		if p.GatewayDeclared() {
			return cleared("%v is declared to stand on the segment, though no prefix holds it", p.Gateway)
		}
		if p.Forwards == facts.Yes {
			return cleared("%v passes traffic on", p.Gateway)
		}
		n, asked := p.Neighbour(p.Gateway)
		if asked && n.Outcome == evidence.Answered {
			return cleared("%v answers on the segment", p.Gateway)
		}
		standing := Supported
		reasons := []string{fmt.Sprintf("%v is in no prefix of %s", p.Gateway, p.Iface.Name)}
		if asked && n.Outcome == evidence.Silent {
			standing = Confirmed
			reasons = append(reasons,
				fmt.Sprintf("%v does not answer on the segment (%d requests, %s)", p.Gateway, n.Asks, wording.Millis(n.Waited)))
		}
		sentence := fmt.Sprintf("The gateway %v lies outside this machine's subnet", p.Gateway)
		next := "Compare address, mask and gateway with a working neighbour, and set them together."
		if a, ok := p.Address4(); ok {
			sentence += fmt.Sprintf(" %v", a.Prefix.Masked())
			if slip, one := subnet.NetworkSlip(p.Gateway, a.Prefix); one {
				sentence += fmt.Sprintf(": its octet %d is %d where the address has %d", slip.Octet, slip.From, slip.To)
			}
		}
		f := found(standing, sentence+".", reasons...)
		if offers, _ := p.OffersSeen(); len(offers) > 0 && len(offers[0].Routers) > 0 {
			o := offers[0]
			return f.next(fmt.Sprintf("Set gateway %s, as %v offers it, in place of %v.", wording.List(o.Routers), o.Server, p.Gateway)).
				inFull(p, false, settings{gateways: o.Routers, who: fmt.Sprintf("%v offers", o.Server)})
		}
		return f.next(next)
	},
}

// HostFirewall: the machine's own filter refuses or swallows the traffic.
var HostFirewall = &Fault{
	ID: "host-firewall", Zone: zone.Host, Place: 160, Scope: OfMachine, Matters: AboutTheGateway, Check: "filter",
	Needs:    []evidence.Kind{evidence.ServiceConnect, evidence.NameLookup, evidence.SegmentFrames},
	Explains: []ID{"service-refused", "service-filtered", "destination-silent"},
	Doc: `This machine's own filter is in the way
The machine's own packet filter refuses to send, or lets no answers in: sending fails with "not permitted", connections are swallowed on
the way out, or answers are seen to arrive at the port and reach no program. It is taken for a dead gateway or a dead service. Look at the
filter's rules for the outgoing and the incoming direction.`,
	Judge: func(p *facts.Facts) Finding {
		var refused []string
		p.EachReply(func(asked netip.Addr, r evidence.Reply, _ int) {
			if r.Outcome == evidence.LocalError && r.Forbidden {
				refused = append(refused, asked.String())
			}
			if r.Outcome == evidence.Unreachable && p.Owns(r.From) && r.From != asked && r.Why == evidence.Prohibited {
				refused = append(refused, asked.String())
			}
		})
		if len(refused) > 0 && p.Usable() != facts.Yes {
			return found(Confirmed, fmt.Sprintf("This machine's own filter refuses to send to %s.", refused[0]),
				fmt.Sprintf("sending to %s is not permitted by this machine itself", refused[0])).
				next("Look at the rules of this machine's packet filter for outgoing traffic.")
		}
		if c, ok := neverLeft(p); ok {
			return found(Supported, fmt.Sprintf("This machine's own filter swallows the attempts to connect to %v.", c.To),
				fmt.Sprintf("no answer to the attempt, and the system could not send %s",
					wording.Plural(c.Unsent, "repeat", "repeats")), "the gateway is reached").
				next("Look at the rules of this machine's packet filter for outgoing traffic.")
		}
		if from, what, ok := swallowed(p); ok {
			return found(Confirmed,
				fmt.Sprintf("This machine's own filter swallows what comes in: answers from %v arrive at %s and reach no program.", from,
					p.Iface.Name),
				fmt.Sprintf("%s from %v seen at the interface, and none at the socket", what, from)).
				next("Look at the rules of this machine's packet filter for incoming traffic.")
		}
		switch {
		case p.Usable() == facts.Yes:
			return cleared("traffic passes in both directions")
		case len(p.Outside) > 0 && !p.IsOpen(evidence.NameLookup, evidence.ServiceConnect):
			return cleared("answers from %v reached the program", p.Outside[0])
		case len(p.Outside) > 0:
			if c, spoke := spokeAtPort(p); spoke {
				return cleared("%v itself has answered", c.To)
			}
			if why, unasked := unasked(p); unasked {
				return cleared("%s", why)
			}
			return possible("answers from %v reached the program, and others are still awaited", p.Outside[0])
		case p.IsWithheld(evidence.SegmentFrames):
			return possible("what arrives at the interface could not be watched")
		}
		return possible("no answer was seen to arrive and be lost")
	},
}

// spokeAtPort is an attempt to connect to the target that the target itself has answered.
func spokeAtPort(p *facts.Facts) (evidence.Connect, bool) {
	for _, c := range p.Connects {
		if slices.Contains(p.Addresses, c.To.Addr()) && c.Came() && c.From == c.To.Addr() {
			return c, true
		}
	}
	return evidence.Connect{}, false
}

// neverLeft is an attempt to reach the target that this machine's own system did not let out: nothing came back, and its repeats could not
// be sent, while the gateway is reached.
func neverLeft(p *facts.Facts) (evidence.Connect, bool) {
	if p.Alive != facts.Yes || p.Usable() == facts.Yes {
		return evidence.Connect{}, false
	}
	for _, c := range p.Connects {
		if slices.Contains(p.Addresses, c.To.Addr()) && c.Outcome == evidence.Silent && c.Unsent > 0 {
			return c, true
		}
	}
	return evidence.Connect{}, false
}

// swallowed finds answers that were seen at the port while every question of their sort to that address ended in silence.
func swallowed(p *facts.Facts) (netip.Addr, string, bool) {
	if p.IsOpen(evidence.NameLookup, evidence.ServiceConnect) {
		return netip.Addr{}, "", false
	}
	// The answer that was seen may have been to another attempt than the one that was lost: of those that measure loss, too.
	if p.LossZone() != zone.Unknown || p.IsOpen(evidence.LossProbes) && slices.ContainsFunc(p.Bursts, facts.Lossy) {
		return netip.Addr{}, "", false
	}
	for _, a := range p.Arrivals {
		if a.Proto == "tcp" && slices.ContainsFunc(p.Bursts, func(b evidence.Burst) bool {
			return b.To == a.From && b.Method == evidence.ByConnections && b.Received > 0
		}) {
			continue // answers of that address do reach this program
		}
		if slices.ContainsFunc(p.Handoffs, func(h evidence.Handoff) bool { return h.To == a.From }) {
			continue // the answer to a frame of our own, for which no socket waits
		}
		if slices.ContainsFunc(p.OtherWays, func(w evidence.OtherWay) bool { return w.To.Addr() == a.From && w.Came() }) {
			continue // the answer to an attempt out of another interface than programs use
		}
		heard, silent := false, false
		for _, l := range p.Lookups {
			if a.Proto == "udp" && a.Port == 53 && l.Server == a.From {
				heard, silent = heard || l.Came(), silent || l.Outcome == evidence.Silent
			}
		}
		for _, c := range p.Connects {
			if a.Proto == "tcp" && c.To == netip.AddrPortFrom(a.From, a.Port) {
				heard, silent = heard || c.Came(), silent || c.Outcome == evidence.Silent
			}
		}
		if silent && !heard {
			return a.From, a.Proto + " answers", true
		}
	}
	return netip.Addr{}, "", false
}

// ResolverNotSet: no DNS server is configured.
var ResolverNotSet = &Fault{
	ID: "resolver-not-set", Zone: zone.Host, Place: 170, Scope: OfMachine, Matters: IfItShows, Check: "resolvers",
	Needs: []evidence.Kind{evidence.Settings},
	Doc: `No name server is set
The machine has no DNS server to ask, so that no name leads anywhere while addresses work. It is taken for a dead Internet connection. Set
the resolvers of this network; if the address is automatic, find out why they were not taken over from the lease.`,
	Judge: func(p *facts.Facts) Finding {
		if p.Endpoint == nil {
			return possible("the machine's settings have not been read")
		}
		if len(p.Resolvers) > 0 {
			return cleared("%s set", wording.Plural(len(p.Resolvers), "name server is", "name servers are"))
		}
		if !p.HasUsable() {
			return possible("no name server is set, as no address is: both would come with a lease")
		}
		f := found(Confirmed, "No name server is set on this machine, so no name leads anywhere.", "the settings name no DNS server").
			aside(!p.NeedsName() && !p.Target.IsZero())
		if offers, _ := p.OffersSeen(); len(offers) > 0 && len(offers[0].Resolvers) > 0 {
			return f.next(
				fmt.Sprintf("Set the name servers to %s, as %v offers them.", wording.List(offers[0].Resolvers), offers[0].Server)).
				inFull(p, false, settings{resolvers: offers[0].Resolvers})
		}
		if named, by := p.ResolversNamed(); len(named) > 0 {
			return f.next(fmt.Sprintf("Set the name servers to %s, as %s has them.", wording.List(named), by[named[0]])).
				inFull(p, named[0].Is6(), settings{resolvers: named})
		}
		return f.next("Set the name servers. A working neighbour on the same segment shows which ones.")
	},
}
