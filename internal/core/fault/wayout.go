package fault

import (
	"fmt"
	"net/netip"
	"slices"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/facts"
	"passepartout/internal/core/wording"
	"passepartout/internal/core/zone"
)

var wayoutFaults = []*Fault{TunnelHoldsRoute, CompetingDefaultRoutes, GatewayNotARouter}

// taken is the route that traffic to the target takes, and the port through which it leaves.
func taken(p *facts.Facts) (r endpoint.RouteAnswer, port *endpoint.Interface, ok bool) {
	for _, a := range p.Addresses {
		if r, known := p.RouteTo(a); known && r.Verdict == endpoint.Forward && p.Endpoint != nil {
			if port, has := p.Endpoint.Interface(r.Interface); has && p.Acid(a) != facts.Yes {
				return r, port, true
			}
		}
	}
	return r, nil, false
}

// worksBy is another port out of which the target is reached.
func worksBy(p *facts.Facts, than string) (evidence.OtherWay, bool) {
	for _, w := range p.OtherWays {
		if slices.Contains(p.Addresses, w.To.Addr()) && w.Interface != than &&
			(w.Outcome == evidence.Answered || w.Outcome == evidence.Refused && p.Target.Port == 0) {
			return w, true
		}
	}
	return evidence.OtherWay{}, false
}

// everythingBehind are the faults that show when traffic leaves by the wrong port.
var everythingBehind = []ID{"gateway-silent", "gateway-impersonated", "gateway-does-not-forward", "uplink-down", "path-stops",
	"destination-silent", "destination-unreachable", "prohibited-by-policy", "service-filtered", "service-refused",
	"resolver-silent", "resolver-silent-local", "name-server-failing", "segment-isolated", "host-firewall", "mask-too-wide",
	"gateway-outside-subnet", "routing-loop", "name-not-found", "wrong-segment"}

// TunnelHoldsRoute: a tunnel has the target's route and does not carry it.
var TunnelHoldsRoute = &Fault{
	ID: "tunnel-holds-route", Zone: zone.Host, Place: 110, Scope: OfMachine, Matters: WhenTrafficLeavesElsewhere, Check: "route",
	Needs:    []evidence.Kind{evidence.Settings, evidence.RouteLookup, evidence.ServiceConnect},
	Explains: append([]ID{"resolver-wrong"}, everythingBehind...),
	Doc: `A tunnel has taken the way and does not carry it
A VPN or another tunnel on this machine has taken the default route, or that of the target, and nothing comes back through it: it has lost
its far end, or the target is not to be had there. Out of the network port itself the target is reached. It is taken for a dead Internet
connection. Take the tunnel down or connect it anew.`,
	Judge: func(p *facts.Facts) Finding {
		r, port, ok := taken(p)
		switch {
		case p.Endpoint != nil &&
			!slices.ContainsFunc(p.Endpoint.Interfaces, func(i endpoint.Interface) bool { return i.Kind == endpoint.Tunnel && i.Up }):
			return cleared("no tunnel is up on this machine")
		case p.Usable() == facts.Yes:
			return cleared("the target is reached")
		case len(p.Addresses) == 0:
			if bad, good, who, wrong := setWrongly(p); wrong {
				if tunnel, through := throughTunnel(p, bad); through {
					return found(Confirmed,
						fmt.Sprintf("The tunnel %s has brought %s %s and does not carry what is asked there; %v answers, which %s names.",
							tunnel, map[bool]string{true: "the name server", false: "the name servers"}[len(bad) == 1], wording.List(bad),
							good,
							who),
						fmt.Sprintf("what is asked of %s leaves by %s, a tunnel, and nothing comes back", wording.List(bad), tunnel),
						fmt.Sprintf("%v answers for %s", good, p.Target.Name)).
						next(fmt.Sprintf("Disconnect the VPN behind %s, or connect it anew, then run again.", tunnel),
							fmt.Sprintf("If the resolvers are still %s without it, the VPN did not put the settings back. %s",
								wording.List(bad),
								completed(p, good.Is6(), settings{resolvers: []netip.Addr{good}}).text(good.Is6())+"."))
				}
			}
			if servers, tunnel, lost := namesLostInTunnel(p); lost {
				return found(Supported,
					fmt.Sprintf(
						"Names are asked for through the tunnel %s, and nothing comes back through it; the way out of %s is in order.",
						tunnel, p.Iface.Name),
					fmt.Sprintf("%s: questions unanswered, and they leave by %s, a tunnel", wording.List(servers), tunnel),
					fmt.Sprintf("the gateway %v passes traffic on", p.Gateway)).
					next(fmt.Sprintf("Disconnect the VPN behind %s, or connect it anew, then run again.", tunnel))
			}
			if w, bad, works := namesElsewhere(p); works && isTunnel(p, bad) {
				return held(p, bad, w)
			}
			return possible("the target's address is not known")
		case !p.Routed():
			return possible("the system has not said yet how it reaches the target")
		case !ok || port.Kind != endpoint.Tunnel:
			return cleared("traffic to the target leaves by no tunnel")
		}
		w, works := worksBy(p, port.Name)
		if !works {
			if p.IsOpen(evidence.ServiceConnect) {
				return possible("traffic to %v leaves by the tunnel %s; whether another way works is still being asked", r.To, port.Name)
			}
			return possible("traffic to %v leaves by the tunnel %s, and no other way works either", r.To, port.Name)
		}
		return held(p, port.Name, w)
	},
}

// held is the finding that a tunnel has taken the way to what answers out of another interface.
func held(p *facts.Facts, tunnel string, w evidence.OtherWay) Finding {
	to := w.To.Addr()
	return found(Confirmed,
		fmt.Sprintf("The tunnel %s has taken the way to %v and does not carry it; out of %s it is reached.", tunnel, to, w.Interface),
		fmt.Sprintf("route look-up for %v: through %s, a tunnel", to, tunnel), "nothing comes back through it",
		fmt.Sprintf("out of %s, %v answers in %s", w.Interface, to, wording.Millis(w.RTT))).
		next(fmt.Sprintf("Disconnect the VPN behind %s, or connect it anew, then run again.", tunnel),
			"If the target should not go through the tunnel, have whoever runs it leave the target out (a split tunnel).").
		without("Take what leads to the target by the tunnel "+tunnel+" away", into(p, tunnel, to)...)
}

func isTunnel(p *facts.Facts, name string) bool {
	i, ok := p.Endpoint.Interface(name)
	return ok && i.Kind == endpoint.Tunnel
}

// into are the routes by which an interface takes traffic to an address.
func into(p *facts.Facts, name string, a netip.Addr) (out []endpoint.Route) {
	for _, r := range p.Endpoint.Routes {
		if r.Interface == name && p.Endpoint.OfMain(r) && r.To.Contains(a) {
			out = append(out, r)
		}
	}
	return out
}

// namesLostInTunnel reports that no name is to be had since all name servers that programs ask are reached by a tunnel and keep silent,
// while nothing else has come through it, and the gateway passes traffic on.
func namesLostInTunnel(p *facts.Facts) (servers []netip.Addr, tunnel string, lost bool) {
	if !p.NameFailed() || p.Forwards != facts.Yes || p.Iface == nil {
		return nil, "", false
	}
	for _, r := range p.Resolvers {
		switch {
		case r.Behind:
		case r.Speaks != facts.No:
			return nil, "", false
		default:
			servers = append(servers, r.Address)
		}
	}
	tunnel, lost = throughTunnel(p, servers)
	if tunnel == p.Iface.Name {
		return nil, "", false
	}
	p.EachReply(func(_ netip.Addr, r evidence.Reply, _ int) {
		lost = lost && !(r.Came() && r.From.IsValid() && p.Endpoint.Leaves(r.From) == tunnel)
	})
	return servers, tunnel, lost
}

// throughTunnel reports whether all of some addresses are reached by a tunnel, by the routing table.
func throughTunnel(p *facts.Facts, addrs []netip.Addr) (name string, all bool) {
	for _, a := range addrs {
		if name = p.Endpoint.Leaves(a); !isTunnel(p, name) {
			return "", false
		}
	}
	return name, len(addrs) > 0
}

// CompetingDefaultRoutes: of two default routes the wrong one wins.
var CompetingDefaultRoutes = &Fault{
	ID: "competing-default-routes", Zone: zone.Host, Place: 120, Scope: OfMachine, Matters: WhenTrafficLeavesElsewhere, Check: "route",
	Needs: []evidence.Kind{evidence.Settings, evidence.RouteLookup, evidence.ServiceConnect}, Explains: everythingBehind,
	Doc: `Two default routes, and the wrong one wins
This machine is connected twice, by cable and by radio perhaps, and of its two default routes the one that wins leads nowhere; out of the
other port the target is reached. It comes and goes with the second connection, and is taken for a bad network. Take the second connection
away, or give the good one the lower metric.`,
	Judge: func(p *facts.Facts) Finding {
		r, port, ok := taken(p)
		switch {
		case p.Endpoint != nil && !p.Endpoint.SeveralDefaults():
			return cleared("there is one default route")
		case p.Usable() == facts.Yes:
			return cleared("the target is reached")
		case len(p.Addresses) == 0:
			if w, bad, works := namesElsewhere(p); works && !isTunnel(p, bad) {
				return competing(p, bad, w, fmt.Sprintf("the name server %v", w.To.Addr()))
			}
			return possible("the target's address is not known")
		case !p.Routed():
			return possible("the system has not said yet how it reaches the target")
		case !ok || port.Kind == endpoint.Tunnel:
			return cleared("traffic to the target does not leave by one of two network interfaces")
		}
		defaults := p.Endpoint.DefaultRoutes(r.To.Is6())
		if len(defaults) < 2 {
			return cleared("there is one default route")
		}
		w, works := worksBy(p, port.Name)
		if !works {
			if p.IsOpen(evidence.ServiceConnect) {
				return possible("whether the other default route works is still being asked")
			}
			return cleared("no other way works either")
		}
		return competing(p, port.Name, w, "the target")
	},
}

// namesElsewhere is a name server that keeps silent by the way that the system takes, and answers out of another interface; bad is the one
// that the system takes.
func namesElsewhere(p *facts.Facts) (w evidence.OtherWay, bad string, works bool) {
	for _, r := range p.Resolvers {
		for _, w := range p.OtherWays {
			if bad := p.Endpoint.Leaves(r.Address); r.Speaks == facts.No && w.To.Addr() == r.Address && w.Interface != bad &&
				w.Outcome == evidence.Answered {
				return w, bad, true
			}
		}
	}
	return w, "", false
}

// competing is the finding that of two default routes the one out of bad wins, while what is reached out of the other.
func competing(p *facts.Facts, bad string, w evidence.OtherWay, what string) Finding {
	var winner, better endpoint.Route
	for _, d := range p.Endpoint.DefaultRoutes(w.To.Addr().Is6()) {
		if d.Interface == w.Interface {
			better = d
		}
		if d.Interface == bad {
			winner = d
		}
	}
	return found(Confirmed,
		fmt.Sprintf("Of two default routes the one by %v through %s wins and leads nowhere; out of %s %s is reached.", winner.Via, bad,
			w.Interface, what),
		fmt.Sprintf("metric %d: by %v through %s", winner.Metric, winner.Via, bad),
		fmt.Sprintf("metric %d: by %v through %s", better.Metric, better.Via, w.Interface),
		fmt.Sprintf("out of %s, %v answers in %s", w.Interface, w.To.Addr(), wording.Millis(w.RTT))).
		next(fmt.Sprintf("Disconnect %s if it is not needed, or give the default route by %v through %s a metric below %d.", bad,
			better.Via,
			better.Interface, winner.Metric)).
		without(fmt.Sprintf("Take the default route by %v through %s away", winner.Via, bad), winner)
}

// GatewayNotARouter: the gateway that was set by hand is a neighbour, and no router.
var GatewayNotARouter = &Fault{
	ID: "gateway-not-a-router", Zone: zone.Host, Place: 140, Scope: OfMachine, Matters: ByReach, Check: "route",
	Needs:     []evidence.Kind{evidence.Settings, evidence.GatewayNeighbour, evidence.PathTrace, evidence.DHCPOffer, evidence.Handoffs},
	OnSilence: true, Explains: everythingBehind,
	Doc: `The gateway set on this machine is no router
The gateway was set by hand to a machine of the segment that is there and passes nothing on: a digit was mistaken, or the router has
moved. The segment's router is another one. Neighbours answer, and nothing beyond does. It is taken for a dead uplink. Set the gateway
that the network itself names, together with address, mask and resolvers.`,
	Judge: func(p *facts.Facts) Finding {
		if why, ok := p.Ready(); !ok {
			return possible("%s", why)
		}
		switch {
		case !p.Gateway.IsValid():
			return possible("no gateway is set")
		case p.Forwards == facts.Yes:
			return cleared("%v passes traffic on", p.Gateway)
		case p.GatewayFromDHCP():
			return cleared("the gateway %v was not set by hand: it came by DHCP", p.Gateway)
		case !p.ByDefault():
			return cleared("%v is not the default gateway, but the next hop of a route of its own", p.Gateway)
		case p.Alive == facts.No:
			return cleared("%v does not answer at all", p.Gateway)
		case p.Alive != facts.Yes || p.Forwards != facts.No:
			return possible("what the gateway does with traffic has not been seen to an end")
		}
		reasons := []string{fmt.Sprintf("%v answers on the segment, and packets with a hop limit of 1 bring nothing back", p.Gateway)}
		router, who := namedRouter(p)
		by, forwards := p.Forwarder()
		switch {
		case forwards:
			router = by
			reasons = append(reasons, fmt.Sprintf("a packet handed to %v is passed on", by))
		case router.IsValid():
		case p.IsOpen(evidence.Handoffs, evidence.DHCPOffer):
			return possible("whether another machine on the segment is the router is still being asked").awaiting(evidence.Handoffs)
		default:
			return cleared("nobody names another router, and no neighbour passes traffic on")
		}
		if slices.ContainsFunc(p.Endpoint.DefaultRoutes(router.Is6()), func(r endpoint.Route) bool { return r.Via == router }) {
			return cleared("%v is set as a router as well, in its order of preference", router)
		}
		if who != "" {
			reasons = append(reasons, who)
		}
		return found(Confirmed,
			fmt.Sprintf("The gateway set on this machine, %v, is no router; the segment's router is %v.", p.Gateway, router), reasons...).
			next(fmt.Sprintf("Set the gateway to %v in place of %v.", router, p.Gateway)).
			inFull(p, router.Is6(), settings{gateways: []netip.Addr{router}})
	},
}

// namedRouter is a router other than the gateway set that the site sheet, an offer, the lease or a router itself names, and who does.
func namedRouter(p *facts.Facts) (router netip.Addr, who string) {
	if home, ok := p.Here(); ok {
		if gw, ok := home.Gateway(p.Gateway.Is6()); ok && gw != p.Gateway {
			return gw, fmt.Sprintf("the site sheet has the gateway %v", gw)
		}
	}
	offers, _ := p.OffersSeen()
	for _, o := range offers {
		for _, r := range o.Routers {
			if r != p.Gateway && r.Is6() == p.Gateway.Is6() {
				return r, fmt.Sprintf("%v offers router %v", o.Server, r)
			}
		}
	}
	if l, ok := p.Lease(); ok {
		for _, r := range l.Terms.Routers {
			if r != p.Gateway && r.Is6() == p.Gateway.Is6() {
				return r, fmt.Sprintf("the lease has router %v", r)
			}
		}
	}
	if p.Gateway.Is6() {
		for _, r := range p.Routers6 {
			if r.Router != p.Gateway && r.Lifetime > 0 {
				return r.Router, fmt.Sprintf("%v advertises itself as a router", r.Router)
			}
		}
	}
	return router, ""
}
