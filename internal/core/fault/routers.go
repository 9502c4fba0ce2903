package fault

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/facts"
	"passepartout/internal/core/wording"
	"passepartout/internal/core/zone"
)

var routersFaults = []*Fault{RouterLeadsNowhere}

// RouterLeadsNowhere: of several default routers one that takes traffic leads nowhere.
var RouterLeadsNowhere = &Fault{
	ID: "router-leads-nowhere", Zone: zone.LocalSubnet, Place: 85, Scope: OfEverybody, Matters: WhileAnotherRouterIsUntried, Check: "gateway",
	Needs: []evidence.Kind{evidence.Settings, evidence.RouteLookup, evidence.ServiceConnect, evidence.NameLookup, evidence.Handoffs,
		evidence.LossProbes}, OfQuality: true, // of routers that share the traffic, one may reach the target just now
	Explains: []ID{"dhcp-wrong-options", "segment-lossy", "path-lossy", "one-family-broken", "gateway-silent", "gateway-impersonated",
		"gateway-does-not-forward", "uplink-down", "path-stops", "destination-silent", "destination-unreachable", "prohibited-by-policy",
		"service-filtered", "service-refused", "resolver-silent", "name-server-failing", "routing-loop", "name-not-found"},
	Doc: `One of several routers leads nowhere
The segment has several routers, set or advertised, and this machine gives one of them traffic that it does not get anywhere, while another
leads on. Where they share the traffic some connections work and others do not. It is taken for a bad line or a dead service. Mend that
router, or see that it advertises itself no longer (RFC 4861 §6.2.5); meanwhile let the traffic go by the other.`,
	Judge: func(p *facts.Facts) Finding {
		var doubt *Finding
		for _, a := range p.Sought() {
			routers := p.Routers(a)
			if len(routers) < 2 {
				continue
			}
			f := judgeRouters(p, a, routers)
			if f.Standing.Holds() {
				return f
			}
			if doubt == nil || f.Standing == Possible {
				doubt = &f
			}
		}
		switch {
		case doubt != nil:
			return *doubt
		case p.Endpoint != nil && !p.Endpoint.SeveralDefaults():
			return cleared("there is one default router")
		case len(p.Sought()) == 0, !p.Routed(), p.IsOpen(evidence.NameLookup, evidence.RouteLookup):
			return possible("what has to be reached is not known yet")
		}
		return cleared("traffic does not go by one of several routers")
	},
}

// judgeRouters holds the routers between which the system chooses for an address against each other.
func judgeRouters(p *facts.Facts, a netip.Addr, routers []facts.Router) Finding {
	fails := p.Fails(a)
	shared := facts.Shared(routers)
	switch {
	case !fails && p.Acid(a) != facts.Yes && p.IsOpen(evidence.ServiceConnect, evidence.NameLookup):
		return possible("whether %v answers is still being asked", a)
	case !fails && !shared:
		return cleared("%v does not fail by the router %v", a, routers[0].Address)
	case p.IsOpen(evidence.Handoffs):
		return possible("whether another router leads to %v is still being asked", a).awaiting(evidence.Handoffs).aside(!fails)
	case shared && p.IsOpen(evidence.LossProbes):
		return possible("how many connections come about is still being asked").awaiting(evidence.LossProbes).aside(!fails)
	}
	if f, is := sharedBlindly(p, a, routers); is {
		return f
	}
	var lost, leads []netip.Addr
	tried := 0
	for _, r := range routers {
		asked, through := p.HandedTo(r.Address, a)
		if asked {
			tried++
		}
		switch {
		case through:
			leads = append(leads, r.Address)
		case asked && r.Shares, !asked && r == routers[0] && fails:
			lost = append(lost, r.Address)
		}
	}
	switch {
	case tried == 0:
		return possible("whether another router leads to %v could not be asked", a)
	case len(lost) == 0 || len(leads) == 0 && fails && p.IsOpen(evidence.ServiceConnect, evidence.NameLookup):
		return possible("which of the routers leads to %v has not been seen to an end", a)
	case len(leads) == 0:
		return cleared("no other router leads to %v either", a)
	}
	bad := lost[0]
	if witness, on := ledOn(p, a, bad); on {
		return cleared("%v leads on: %v has answered through it", bad, witness)
	}
	reasons := []string{fmt.Sprintf("default routers of %s: %s", p.Iface.Name, listed(routers)),
		fmt.Sprintf("by %s nothing comes back from %v", wording.List(lost), a),
		fmt.Sprintf("handed to %s, a packet for %v is answered", wording.List(leads), a)}
	sentence := fmt.Sprintf("The router %v leads nowhere, and this machine sends by it; %v leads on.", bad, leads[0])
	if shared {
		sentence = fmt.Sprintf("Of the routers that share this machine's traffic %v leads nowhere; %v leads on.", bad, leads[0])
	}
	f := found(Confirmed, sentence, reasons...).aside(!fails && p.LossZone() == zone.Unknown)
	if slices.ContainsFunc(p.Routers6, func(r evidence.Advertisement) bool { return r.Router == bad.WithZone("") && r.Lifetime > 0 }) {
		return f.next(fmt.Sprintf("Have the router %v mended, or its lifetime as a default router set to 0 s until it is.", bad),
			fmt.Sprintf("Meanwhile take the default route by %v away on this machine: traffic then goes by %v.", bad, leads[0]))
	}
	return f.next(fmt.Sprintf("Take the default route by %v away, or give it a higher metric than the one by %v, until it is mended.", bad,
		leads[0]), fmt.Sprintf("Look at the router %v: has its uplink a signal, is forwarding on?", bad)).
		without(fmt.Sprintf("Take the default route by %v away", bad), slices.DeleteFunc(p.Endpoint.DefaultRoutes(bad.Is6()),
			func(r endpoint.Route) bool { return r.Via != bad })...)
}

// sharedBlindly judges routers that share the traffic where none of them could be asked: echo takes one of them, and connections are spread
// over all, so that some come about and others do not.
func sharedBlindly(p *facts.Facts, a netip.Addr, routers []facts.Router) (Finding, bool) {
	echo, own, _ := p.RationsEcho(a)
	if asked, _ := p.HandedTo(routers[0].Address, a); asked || !facts.Shared(routers) || !facts.Lossy(own) || facts.Lossy(echo) {
		return Finding{}, false
	}
	return found(Supported, fmt.Sprintf(
		"Of the routers that share this machine's traffic, %s, one seems to lead nowhere: of %d connections %d come about.",
		listed(routers), own.Sent, own.Received), fmt.Sprintf("default routers of %s: %s", p.Iface.Name, listed(routers)), counted(own)).
		next("Run again as root: each router is asked by itself then.",
			fmt.Sprintf("Take one of the default routes by %s away for a moment, and try again.", listed(routers))), true
}

// untried reports that what has to be reached does not answer, while another default router is set that could not be asked: whether it lies
// at the one that the system takes is not known.
func untried(p *facts.Facts) (why string, is bool) {
	for _, a := range p.Sought() {
		routers := p.Routers(a)
		if len(routers) < 2 || !p.Fails(a) {
			continue
		}
		if asked, _ := p.HandedTo(routers[1].Address, a); asked {
			continue
		}
		if _, on := ledOn(p, a, routers[0].Address); !on {
			return fmt.Sprintf("whether %v, which is a default router too, leads to %v could not be asked", routers[1].Address, a), true
		}
	}
	return "", false
}

// ledOn is somebody beyond a router who has answered by it, of the family of an address.
func ledOn(p *facts.Facts, a, router netip.Addr) (witness netip.Addr, ok bool) {
	p.EachReply(func(asked netip.Addr, r evidence.Reply, hop int) {
		if ok || asked.Is6() != a.Is6() || r.From == router || !p.BeyondGateway(r, hop) {
			return
		}
		if by := p.Routers(asked); len(by) > 1 && !facts.Shared(by) && by[0].Address == router {
			witness, ok = r.From, true
		}
	})
	return witness, ok
}

// listed writes several routers, those in reserve said to be that.
func listed(routers []facts.Router) string {
	var out []string
	for _, r := range routers {
		s := r.Address.String()
		if !r.Shares {
			s += " (in reserve)"
		}
		out = append(out, s)
	}
	return strings.Join(out, ", ")
}
