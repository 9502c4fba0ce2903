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

var beyondFaults = []*Fault{UplinkDown, PathStops, RoutingLoop, DestinationUnreachable, ProhibitedByPolicy, ServiceRefused, ServiceFiltered,
	DestinationSilent}

// UplinkDown: the gateway works, and nothing is behind it.
var UplinkDown = &Fault{
	ID: "uplink-down", Zone: zone.Beyond, Place: 10, Scope: OfEverybody | OfWayOut, Matters: AboutTheGateway, Check: "forwarding",
	Needs: []evidence.Kind{evidence.GatewayNeighbour, evidence.PathTrace, evidence.NameLookup, evidence.ServiceConnect}, OnSilence: true,
	Doc: `Nothing answers behind the gateway
The gateway works and says so, and nothing behind it answers: its uplink has no signal, the provider is down, or the line is not paid for.
Everybody behind this gateway is cut off. Look at the gateway's uplink lamp, then call the provider.`,
	Judge: func(p *facts.Facts) Finding {
		if why, ok := p.Ready(); !ok {
			return possible("%s", why)
		}
		switch {
		case len(p.Outside) > 0:
			return cleared("%s past the gateway %s", wording.List(p.Outside),
				map[bool]string{true: "answers", false: "answer"}[len(p.Outside) == 1])
		case p.Alive != facts.Yes:
			return possible("the gateway has not answered")
		case p.Forwards != facts.Yes:
			return possible("the gateway has not shown that it passes traffic on")
		case p.IsOpen(evidence.PathTrace):
			return possible("the way out is still being asked")
		}
		if why, is := untried(p); is {
			return possible("%s", why)
		}
		trails := p.OffLinkTrails()
		said := p.WhoSaid(func(r evidence.Reply) bool { return r.Why != evidence.Prohibited })
		if len(trails) == 0 && !said.IsValid() && !forwarderCutOff(p) {
			return possible("no address beyond the gateway is known that could be asked")
		}
		if refused := p.WhoSaid(func(r evidence.Reply) bool { return r.Why == evidence.Prohibited }); refused.IsValid() {
			return possible("%v says that it is prohibited", refused)
		}
		reasons := []string{fmt.Sprintf("the gateway %v answers and handles traffic for elsewhere", p.Gateway)}
		standing := Supported
		if said.IsValid() {
			standing = Confirmed
			reasons = append(reasons, fmt.Sprintf("%v says itself that what lies behind cannot be reached", said))
		}
		for _, t := range trails {
			reasons = append(reasons, fmt.Sprintf("towards %v: nothing after the gateway", t.To))
		}
		if len(trails) == 0 && !said.IsValid() {
			reasons = append(reasons, "the name service on the segment lives and cannot look the name up",
				"no router behind the gateway answers")
		}
		if len(trails) > 1 {
			standing = Confirmed
		}
		return found(standing, fmt.Sprintf("The gateway %v works, and nothing behind it answers: its uplink is down.", p.Gateway),
			reasons...).
			next("Look at the gateway's uplink: is its lamp lit, does it have an address from the provider?",
				"Then call the provider, with the time and the gateway's name.")
	},
}

// forwarderCutOff reports whether a name service on this segment lives and fails for the name, while packets to nowhere find no router
// behind the gateway.
func forwarderCutOff(p *facts.Facts) bool {
	asked := slices.ContainsFunc(p.Trails, func(t evidence.Trail) bool { return t.To == evidence.Unassigned })
	return asked && p.NameFailed() &&
		slices.ContainsFunc(p.Resolvers, func(r facts.ResolverFact) bool { return r.OnLink && (r.Mute || r.RCode != "") })
}

// PathStops: every way out ends at the same router.
var PathStops = &Fault{
	ID: "path-stops", Zone: zone.Beyond, Place: 20, Scope: OfEverybody | OfWayOut, Matters: ByReach, Check: "path",
	Needs: []evidence.Kind{evidence.PathTrace, evidence.ServiceConnect, evidence.NameLookup}, OnSilence: true,
	Doc: `The path ends on the way, for everything
The gateway and perhaps some routers behind it answer, and after one of them nothing does, whatever the target: a line of the provider is
cut, or a router there has lost its way. Hand the last router that answers to the provider, with the time.`,
	Judge: func(p *facts.Facts) Finding {
		if w := p.Witnesses(); len(w) > 0 {
			return cleared("%v beyond the gateway is reached", w[0])
		}
		if p.IsOpen(evidence.PathTrace) {
			return possible("the path is still being asked")
		}
		if _, _, loop := p.Loop(); loop {
			return cleared("the path does not end, it circles")
		}
		end, n, ok := p.CommonEnd()
		switch {
		case !ok:
			return possible("no common end of the paths was seen")
		case n == 1:
			return possible("only one target beyond was asked: its path ends after %v", end.From)
		}
		reasons := []string{fmt.Sprintf("%d targets asked, every path ends after hop %d, %v", n, end.HopLimit, end.From)}
		if end.Outcome == evidence.Unreachable {
			reasons = append(reasons, fmt.Sprintf("%v says: %v", end.From, end.Why))
		}
		return found(Confirmed, fmt.Sprintf("The path ends after %v, hop %d, whatever the target.", end.From, end.HopLimit), reasons...).
			next(fmt.Sprintf("Call the provider: the last router that answers is %v, hop %d; nothing behind it does.", end.From,
				end.HopLimit))
	},
}

// RoutingLoop: packets circle.
var RoutingLoop = &Fault{
	ID: "routing-loop", Zone: zone.Beyond, Place: 50, Scope: OfEverybody | OfWayOut, Matters: ByReach, Check: "path",
	Needs: []evidence.Kind{evidence.PathTrace, evidence.ServiceConnect},
	Doc: `Packets circle between routers
Two or more routers send the packets to each other until their hop limit runs out: each takes the other for the way on. It is taken for a
dead service. Hand both addresses to whoever runs those routers.`,
	Judge: func(p *facts.Facts) Finding {
		if p.Usable() == facts.Yes {
			return cleared("the target is reached")
		}
		if why, spared := spared(p); spared {
			return cleared("%s", why)
		}
		a, b, ok := p.Loop()
		if !ok {
			if p.IsOpen(evidence.PathTrace) {
				return possible("the path is still being asked")
			}
			return cleared("no router appears twice on the way")
		}
		return found(Confirmed, fmt.Sprintf("Packets circle between the routers %v and %v.", a, b),
			fmt.Sprintf("%v ends packets of several hop limits, %v stands in between", a, b)).
			next(fmt.Sprintf("Hand both addresses, %v and %v, to whoever runs those routers.", a, b))
	},
}

// unreachable gives the report that concerns the target itself.
func unreachable(p *facts.Facts, fits func(evidence.Reply) bool) (evidence.Reply, bool) {
	var out evidence.Reply
	p.EachReply(func(asked netip.Addr, r evidence.Reply, _ int) {
		for _, a := range p.Addresses {
			if asked == a && r.Outcome == evidence.Unreachable && !p.Owns(r.From) && fits(r) &&
				(out.Outcome == evidence.NotKnown || r.From.Less(out.From)) {
				out = r
			}
		}
	})
	return out, out.Outcome != evidence.NotKnown
}

// word weighs what somebody says of the target: anybody can forge an ICMP error (RFC 5927), so that it is certain only from a station that
// has shown itself on the way, or from the target's own hop.
func word(p *facts.Facts, r evidence.Reply) (Standing, []string) {
	reasons := []string{fmt.Sprintf("%v: %v", r.From, r.Why)}
	seen := r.From == p.Gateway || facts.Attached(r) || slices.ContainsFunc(p.Hops, func(h evidence.Hop) bool {
		return h.From == r.From && (h.Outcome == evidence.Expired || h.Outcome == evidence.Answered)
	})
	for _, t := range p.Trails { // it speaks for the target from the hop limit at which the way ends
		for _, st := range t.Stations {
			seen = seen || st.From == r.From && slices.Contains(p.Addresses, t.To) && st.HopLimit > 1
		}
	}
	if !seen {
		return Supported, append(reasons, fmt.Sprintf("%v was not met on the way: its word alone proves little", r.From))
	}
	return Confirmed, reasons
}

// DestinationUnreachable: a router says that the target cannot be reached.
var DestinationUnreachable = &Fault{
	ID: "destination-unreachable", Zone: zone.Beyond, Place: 60, Scope: OfEverybody | OfWayOut, Matters: ByReach, Check: "path",
	Needs: []evidence.Kind{evidence.ServiceConnect, evidence.PathTrace},
	Doc: `A router reports the target unreachable
A router on the way says that it knows no way to the target's network, or that the target itself does not answer on its last link, while
other targets are reached. The far network or the far machine is down. Hand the router's word to whoever runs the service.`,
	Judge: func(p *facts.Facts) Finding {
		if p.Usable() == facts.Yes {
			return cleared("the target is reached")
		}
		if why, spared := spared(p); spared {
			return cleared("%s", why)
		}
		r, ok := unreachable(p, func(r evidence.Reply) bool { return r.Why == evidence.NoNet || r.Why == evidence.NoHost })
		switch {
		case !ok && p.IsOpen(evidence.ServiceConnect, evidence.PathTrace):
			return possible("no router has said so yet")
		case !ok:
			return cleared("no router reports the target unreachable")
		case len(p.Outside) == 0:
			return possible("%v says so, and nothing else beyond answers either", r.From)
		}
		if _, n, common := p.CommonEnd(); common && n > 1 {
			return possible("%v says so, of every target", r.From)
		}
		if why, is := elsewherePerhaps(p); is {
			return possible("%s", why)
		}
		standing, reasons := word(p, r)
		return found(standing, fmt.Sprintf("The router %v reports that the target cannot be reached: %v.", r.From, r.Why), reasons...).
			next(fmt.Sprintf("Tell whoever runs the service, with the word of %v.", r.From))
	},
}

// ProhibitedByPolicy: somebody in between says that it is not allowed.
var ProhibitedByPolicy = &Fault{
	ID: "prohibited-by-policy", Zone: zone.Beyond, Place: 70, Scope: OfWayOut, Matters: ByReach, Check: "service",
	Needs: []evidence.Kind{evidence.ServiceConnect, evidence.PathTrace},
	Doc: `A filter on the way prohibits it
A router or firewall on the way says outright that this traffic is administratively prohibited. Nothing is broken: somebody has decided
so. Ask whoever runs that filter to allow it.`,
	Judge: func(p *facts.Facts) Finding {
		if p.Usable() == facts.Yes {
			return cleared("the target is reached")
		}
		r, ok := unreachable(p, func(r evidence.Reply) bool { return r.Why == evidence.Prohibited || r.Why == evidence.NoPort })
		switch {
		case !ok && p.IsOpen(evidence.ServiceConnect, evidence.PathTrace):
			if why, spared := spared(p); spared && !p.IsOpen(evidence.ServiceConnect) {
				return cleared("%s", why)
			}
			return possible("nobody has said so yet")
		case !ok:
			return cleared("nobody on the way says that it is prohibited")
		}
		standing, reasons := word(p, r)
		if r.Why == evidence.NoPort { // a filter that pretends to be a closed port
			standing = Supported
		}
		return found(standing, fmt.Sprintf("%v on the way prohibits the traffic to %s.", r.From, p.Target), reasons...).
			next(fmt.Sprintf("Ask whoever runs %v to allow %s from this machine.", r.From, p.Target))
	},
}

// targetSilent reports whether everything that was sent to the target's addresses ended in silence.
func targetSilent(p *facts.Facts) bool {
	if len(p.Addresses) == 0 || p.IsOpen(evidence.ServiceConnect, evidence.TargetEcho, evidence.PathTrace) {
		return false
	}
	silent, any := true, false
	p.EachReply(func(asked netip.Addr, r evidence.Reply, _ int) {
		for _, a := range p.Addresses {
			any = any || asked == a
			if asked == a && (r.Came() && (r.From == a || r.Outcome == evidence.Unreachable) ||
				r.Outcome == evidence.LocalError && !r.Unheard()) {
				silent = false
			}
		}
	})
	return silent && any
}

// DestinationSilent: this target alone keeps silent.
var DestinationSilent = &Fault{
	ID: "destination-silent", Zone: zone.Beyond, Place: 180, Scope: OfEverybody | OfTarget, Matters: ByReach, Check: "service",
	Needs: []evidence.Kind{evidence.ServiceConnect, evidence.TargetEcho, evidence.PathTrace, evidence.NameLookup}, OnSilence: true,
	Doc: `The path to this target ends in silence
Other hosts beyond the gateway answer, this one and what lies behind the last router that answers does not: the far machine is off, or
something before it drops everything. From here it cannot be told which. Hand over the last router that answers.`,
	Judge: func(p *facts.Facts) Finding {
		if p.Usable() == facts.Yes {
			return cleared("the target is reached")
		}
		if !targetSilent(p) {
			return possible("the target has not kept silent to everything")
		}
		if p.TargetOnLink() {
			return neighbourSilent(p)
		}
		if p.Alive == facts.No {
			return possible("the next hop on the way to it, %v, keeps silent", p.Gateway)
		}
		w := p.Witnesses()
		if len(w) == 0 {
			return possible("no other host beyond the gateway answers either")
		}
		if why, is := elsewherePerhaps(p); is {
			return possible("%s", why)
		}
		after := ""
		for _, t := range p.Trails {
			if last, ok := t.Last(); ok && len(p.Addresses) > 0 && t.To == p.Addresses[0] {
				after = fmt.Sprintf(" after %v, hop %d", last.From, last.HopLimit)
			}
		}
		return found(Supported,
			fmt.Sprintf("The path to %s ends in silence%s, while other hosts out there answer.", p.Target.Host(), after),
			fmt.Sprintf("%s keeps silent to everything", wording.List(p.Addresses)), "answered: "+wording.List(w)).
			next("Ask whoever runs the service whether the machine is up" +
				map[bool]string{true: ".", false: "; the last router that answers is" + after + "."}[after == ""])
	},
}

// neighbourSilent judges a silent target that is a neighbour by the mask: it is off only if the mask is right.
func neighbourSilent(p *facts.Facts) Finding {
	a := p.Addresses[0]
	if by, ok := p.ReachedThrough(a); ok {
		return cleared("handed to the gateway %v, a packet for %v is answered", by, a)
	}
	asked := slices.ContainsFunc(p.Handoffs, func(h evidence.Handoff) bool { return h.To == a && h.Outcome == evidence.Silent })
	offers, _ := p.OffersSeen()
	confirmed := slices.ContainsFunc(offers, func(o evidence.Offer) bool { return o.Address.Masked().Contains(a) })
	switch {
	case p.IsOpen(evidence.Handoffs):
		return possible("whether %v is to be reached through the gateway is still being asked", a)
	case !asked && !confirmed && p.Gateway.IsValid(), len(p.Others) == 0 && p.Alive != facts.Yes:
		return possible("%v lies on this segment by the mask, and nothing confirms the mask", a)
	}
	return found(Supported, fmt.Sprintf("%v, a neighbour on this segment, keeps silent, while others there answer.", a),
		fmt.Sprintf("%v does not answer, nor its hardware address", a)).in(zone.LocalSubnet).
		next(fmt.Sprintf("See that the machine %v is on and connected.", a))
}

// ServiceRefused: the host is there, the port is closed.
var ServiceRefused = &Fault{
	ID: "service-refused", Zone: zone.Beyond, Place: 160, Scope: OfEverybody | OfTarget, Matters: ByReach, Check: "service",
	Needs: []evidence.Kind{evidence.ServiceConnect},
	Doc: `The service refuses the connection
The far host is there and says that nothing listens on this port: the service has stopped, or listens elsewhere. The network is in order
all the way. Tell whoever runs the service, and check the port number.`,
	Judge: func(p *facts.Facts) Finding {
		if p.Target.Port == 0 {
			return cleared("no port was asked for")
		}
		if p.Usable() == facts.Yes {
			return cleared("the connection opens")
		}
		for _, c := range p.Connects {
			if c.Outcome == evidence.Refused && c.To.Port() == p.Target.Port {
				return found(Confirmed, fmt.Sprintf("%v is there and refuses connections on port %d.", c.To.Addr(), c.To.Port()),
					fmt.Sprintf("%v refused in %s", c.To, wording.Millis(c.RTT))).in(p.Stands(c.To.Addr())).
					next(fmt.Sprintf("Tell whoever runs %s that nothing listens on port %d; check the port number.", p.Target.Host(),
						p.Target.Port))
			}
		}
		if len(p.Connects) == 0 || p.IsOpen(evidence.ServiceConnect) {
			return possible("the service has not been asked to an end")
		}
		return cleared("nobody refused the connection")
	},
}

// answersOtherwise says what of a host has answered while one of its ports keeps silent; "" if nothing has.
func answersOtherwise(p *facts.Facts, silent netip.AddrPort) string {
	for _, e := range p.Echoes {
		if e.Asked == silent.Addr() && e.From == e.Asked && e.Outcome == evidence.Answered && e.Method != "udp" {
			return "answers echo"
		}
	}
	for _, c := range p.Connects {
		switch {
		case c.To.Addr() != silent.Addr() || c.To == silent || c.From != c.To.Addr():
		case c.Outcome == evidence.Answered:
			return fmt.Sprintf("accepts connections on port %d", c.To.Port())
		case c.Outcome == evidence.Refused:
			return fmt.Sprintf("refuses connections on port %d", c.To.Port())
		}
	}
	answers := false
	p.EachReply(func(asked netip.Addr, r evidence.Reply, _ int) {
		answers = answers || asked == silent.Addr() && r.From == asked && (r.Outcome == evidence.Answered || r.Outcome == evidence.Refused)
	})
	if answers {
		return "answers other questions"
	}
	return ""
}

// ServiceFiltered: the host is there, the port is silent.
var ServiceFiltered = &Fault{
	ID: "service-filtered", Zone: zone.Beyond, Place: 170, Scope: OfEverybody | OfTarget, Matters: ByReach, Check: "service",
	Needs: []evidence.Kind{evidence.ServiceConnect, evidence.TargetEcho, evidence.PathTrace}, OnSilence: true,
	Doc: `The port is silent, though the host answers
The far host answers echo, or on another port, and attempts to connect to the asked port end in silence: a filter at the far end or before
it drops them, or the service hangs. The path is in order. Ask whoever runs the service, and whoever filters before it.`,
	Judge: func(p *facts.Facts) Finding {
		if p.Target.Port == 0 {
			return cleared("no port was asked for")
		}
		if p.Usable() == facts.Yes {
			return cleared("the connection opens")
		}
		if p.IsOpen(evidence.ServiceConnect) || len(p.Connects) == 0 {
			return possible("the service has not been asked to an end")
		}
		var silent netip.AddrPort
		for _, c := range p.Connects {
			if c.To.Port() == p.Target.Port && c.Outcome == evidence.Silent {
				silent = c.To
			}
		}
		if !silent.IsValid() {
			return cleared("the port did not keep silent")
		}
		there := answersOtherwise(p, silent)
		if there == "" {
			return possible("%v has not answered anything else either", silent.Addr())
		}
		z := zone.Unknown
		if p.OnLink(silent.Addr()) {
			z = zone.LocalSubnet
		}
		return found(Confirmed, fmt.Sprintf("%v %s, and its port %d keeps silent.", silent.Addr(), there, silent.Port()),
			fmt.Sprintf("%v %s", silent.Addr(), there), fmt.Sprintf("%v: no answer to the attempt to connect", silent)).in(z).
			next(fmt.Sprintf("Ask whoever runs %s whether port %d is open to this network, and what filters before it.", p.Target.Host(),
				p.Target.Port))
	},
}
