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

// RouteByRuleWrong: a rule of policy routing leads astray.
var RouteByRuleWrong = &Fault{
	ID: "route-by-rule-wrong", Zone: zone.Host, Place: 125, Scope: OfMachine, Matters: ByReach, Check: "route",
	Needs: []evidence.Kind{evidence.Settings, evidence.RouteLookup}, Explains: append([]ID{"route-blocked"}, behindRoute...),
	Doc: `A rule sends the traffic by a table that leads nowhere
This machine has rules that look some packets up in a table of their own (by source, destination or mark), and that table leads where
nothing passes, while the main table's way works. Programs for tunnels and for several lines set such rules, and leave them behind. The
routing table that is usually looked at shows nothing. Delete the rule, or mend its table.`,
	Judge: func(p *facts.Facts) Finding {
		switch {
		case p.Endpoint == nil:
			return possible("the machine's settings have not been read")
		case len(p.Endpoint.Rules) == 0:
			return cleared("no rule but the usual ones chooses a routing table")
		case len(p.Addresses) == 0:
			return possible("the target's address is not known")
		case !p.Routed():
			return possible("the system has not said yet how it reaches the target")
		}
		for _, a := range p.Addresses {
			if rule, route, main, is := ledAway(p, a); is {
				return judgeRule(p, a, rule, route, main)
			}
		}
		return cleared("no rule sends traffic for %s another way than the main table does", wording.List(p.Addresses))
	},
}

// ledAway is the rule by which traffic to an address is led another way than the main table would, and both ways.
func ledAway(p *facts.Facts, a netip.Addr) (rule endpoint.Rule, route, main endpoint.Route, is bool) {
	if p.Endpoint == nil {
		return rule, route, main, false
	}
	rule, route, is = p.Endpoint.Ruled(a)
	main, known := p.Endpoint.MainRoute(a)
	is = is && known && main.Verdict == endpoint.Forward &&
		(route.Verdict != main.Verdict || route.Via != main.Via || route.Interface != main.Interface)
	return rule, route, main, is
}

func judgeRule(p *facts.Facts, a netip.Addr, rule endpoint.Rule, route, main endpoint.Route) Finding {
	answer, _ := p.RouteTo(a)
	if i, ok := p.Endpoint.Interface(route.Interface); ok && i.Kind == endpoint.Tunnel {
		return cleared("the rule leads into the tunnel %s, which is judged by itself", i.Name)
	}
	reason := fmt.Sprintf("%v; the main table has %v by %s", rule, main.To, wayOf(main))
	mend := []string{
		fmt.Sprintf("Delete the rule (ip rule del priority %d) if nobody needs it, or mend table %d; find out what set it.", rule.Priority,
			rule.Table),
		fmt.Sprintf("Without it, traffic for %v goes by %s.", a, wayOf(main))}
	switch {
	case p.Usable() == facts.Yes:
		return cleared("the target is reached by the way that the rule chooses")
	case answer.Verdict != endpoint.Forward && answer.Verdict != endpoint.LocalRoute:
		return found(Confirmed, fmt.Sprintf("A rule on this machine has traffic for %v looked up in table %d, and the answer is \"%v\".", a,
			rule.Table, answer.Verdict), reason).next(mend...).withoutRule(rule)
	case answer.Via != route.Via || answer.Interface != route.Interface:
		return cleared("the system's own look-up for %v does not go by the rule", a)
	case passedBy(p, a, rule, route):
		return cleared("%s, to which the rule leads, passes traffic on", wayOf(route))
	case p.Usable() == facts.Unknown || p.IsOpen(evidence.PathTrace):
		return possible("whether %s passes traffic on is still being asked", wayOf(route)).awaiting(evidence.PathTrace)
	}
	asked, through := handedTo(p, main.Via)
	for _, w := range p.OtherWays {
		if w.Interface == main.Interface && w.Interface != route.Interface && w.To.Addr() == a {
			asked, through = true, through || w.Outcome == evidence.Answered
		}
	}
	switch {
	case through:
		return found(Confirmed,
			fmt.Sprintf("A rule on this machine sends traffic for %v to %s, which passes nothing on; by %s it is reached.", a,
				wayOf(route), wayOf(main)), reason, "nothing comes back by the rule's way",
			fmt.Sprintf("by %s, as the main table has it, %v answers", wayOf(main), a)).next(mend...).withoutRule(rule)
	case p.IsOpen(evidence.Handoffs, evidence.ServiceConnect):
		return possible("whether the main table's way leads to the target is still being asked").awaiting(evidence.Handoffs)
	case asked:
		return cleared("by %s, as the main table has it, the target does not answer either: it is not the rule", wayOf(main))
	}
	if echoed(p, a) { // which goes by the main table: it has no source of its own
		return found(Supported, fmt.Sprintf(
			"A rule on this machine sends connections to %v to %s, and none comes about; what goes by %s is answered.", a, wayOf(route),
			wayOf(main)), reason, fmt.Sprintf("%v answers echo, which does not go by the rule", a)).next(mend...).withoutRule(rule)
	}
	n, known := p.Neighbour(route.Via)
	if witness, works := byDefault(p, endpoint.Route{To: netip.PrefixFrom(a, a.BitLen())}); works &&
		!(known && n.Outcome == evidence.Silent) {
		return found(Supported, fmt.Sprintf("A rule on this machine sends traffic for %v to %s, and nothing comes back.", a, wayOf(route)),
			reason,
			fmt.Sprintf("by another way, %v answers", witness)).next(mend...).withoutRule(rule)
	}
	return possible("nothing comes back by %s, to which the rule leads; whether the main table's way works could not be asked",
		wayOf(route))
}

// passedBy reports whether anything came back by the way that a rule chooses. Where it goes by the source, that is true of connections
// alone: what is sent without a source is looked up by the main table.
func passedBy(p *facts.Facts, a netip.Addr, rule endpoint.Rule, route endpoint.Route) bool {
	if !rule.From.IsValid() {
		return cameBy(p, endpoint.Route{To: netip.PrefixFrom(a, a.BitLen()), Via: route.Via})
	}
	return slices.ContainsFunc(p.Connects, func(c evidence.Connect) bool { return c.To.Addr() == a && c.Came() && !p.Owns(c.From) })
}

// echoed reports whether an address answers echo.
func echoed(p *facts.Facts, a netip.Addr) bool {
	return slices.ContainsFunc(p.Echoes,
		func(e evidence.Echo) bool { return e.Asked == a && e.From == a && e.Outcome == evidence.Answered })
}

// wayOf writes where a route leads.
func wayOf(r endpoint.Route) string {
	if r.Via.IsValid() {
		return r.Via.String()
	}
	return r.Interface
}
