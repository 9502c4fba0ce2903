package fault

import (
	"cmp"
	"net/netip"
	"slices"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
)

// canonical gives the evidence in an order of its own, so that no judge can depend on the order of arrival, with each reply localized.
func canonical(s *evidence.Set) *evidence.Set {
	out := *s
	byReply := func(a, b evidence.Reply) int {
		return cmp.Or(cmp.Compare(a.Outcome, b.Outcome), cmp.Compare(a.RTT, b.RTT), a.From.Compare(b.From), cmp.Compare(a.Waited, b.Waited))
	}
	out.Routes = ordered(s.Routes, func(a, b endpoint.RouteAnswer) int { return a.To.Compare(b.To) })
	out.Neighbours = ordered(s.Neighbours, func(a, b evidence.Neighbour) int { return cmp.Or(a.Asked.Compare(b.Asked), byReply(a.Reply, b.Reply)) })
	out.Heard = ordered(s.Heard, func(a, b evidence.Heard) int { return a.Address.Compare(b.Address) })
	out.Arrivals = ordered(s.Arrivals, func(a, b evidence.Arrival) int {
		return cmp.Or(a.From.Compare(b.From), cmp.Compare(a.Proto, b.Proto), cmp.Compare(a.Port, b.Port))
	})
	out.Lookups = ordered(s.Lookups, func(a, b evidence.Lookup) int {
		return cmp.Or(a.Server.Compare(b.Server), cmp.Compare(a.Name, b.Name), cmp.Compare(a.Type, b.Type), byReply(a.Reply, b.Reply))
	})
	out.Echoes = ordered(s.Echoes, func(a, b evidence.Echo) int { return cmp.Or(a.Asked.Compare(b.Asked), byReply(a.Reply, b.Reply)) })
	out.Connects = ordered(s.Connects, func(a, b evidence.Connect) int { return cmp.Or(a.To.Compare(b.To), byReply(a.Reply, b.Reply)) })
	out.Hops = ordered(s.Hops, func(a, b evidence.Hop) int {
		return cmp.Or(a.To.Compare(b.To), cmp.Compare(a.HopLimit, b.HopLimit), byReply(a.Reply, b.Reply))
	})
	out.Bursts = merged(s.Bursts, func(a, b evidence.Burst) int { return cmp.Or(a.To.Compare(b.To), cmp.Compare(b.Received, a.Received)) })
	out.Sizings = ordered(s.Sizings, func(a, b evidence.Sizing) int { return a.To.Compare(b.To) })
	out.Handoffs = ordered(s.Handoffs, func(a, b evidence.Handoff) int {
		return cmp.Or(a.To.Compare(b.To), a.By.Compare(b.By), cmp.Compare(a.HopLimit, b.HopLimit), byReply(a.Reply, b.Reply))
	})
	out.Elsewhere = ordered(s.Elsewhere, func(a, b evidence.Lookup) int {
		return cmp.Or(a.Server.Compare(b.Server), cmp.Compare(a.Name, b.Name), cmp.Compare(a.Type, b.Type), byReply(a.Reply, b.Reply))
	})
	out.Counted = ordered(s.Counted, func(a, b evidence.PortCount) int {
		return cmp.Or(cmp.Compare(a.Interface, b.Interface), cmp.Compare(a.Over, b.Over))
	})
	out.Webs = ordered(s.Webs, func(a, b evidence.Web) int {
		return cmp.Or(cmp.Compare(a.Via, b.Via), a.To.Compare(b.To), cmp.Compare(a.URL, b.URL), byReply(a.Reply, b.Reply))
	})
	out.Shorts = ordered(s.Shorts, func(a, b evidence.ShortConnect) int {
		return cmp.Or(a.To.Compare(b.To), cmp.Compare(a.HopLimit, b.HopLimit), byReply(a.Reply, b.Reply))
	})
	out.Portals = ordered(s.Portals, func(a, b evidence.Portal) int {
		return cmp.Or(cmp.Compare(a.URL, b.URL), cmp.Compare(a.Captive, b.Captive), cmp.Compare(a.Page, b.Page))
	})
	out.Scripts = ordered(s.Scripts, func(a, b evidence.ProxyScript) int { return cmp.Compare(a.URL, b.URL) })
	out.FarEnds = ordered(s.FarEnds, func(a, b evidence.FarEnd) int {
		return cmp.Or(a.To.Compare(b.To), cmp.Compare(a.Arrived, b.Arrived), cmp.Compare(a.Answered, b.Answered))
	})
	out.Said = ordered(s.Said, func(a, b evidence.Said) int {
		return cmp.Or(cmp.Compare(a.Question, b.Question), cmp.Compare(a.Answer, b.Answer))
	})
	out.Withheld = ordered(s.Withheld, func(a, b evidence.Withheld) int {
		return cmp.Or(cmp.Compare(a.Kind, b.Kind), cmp.Compare(a.Why, b.Why))
	})
	out.OtherWays = ordered(s.OtherWays, func(a, b evidence.OtherWay) int {
		return cmp.Or(cmp.Compare(a.Interface, b.Interface), a.To.Compare(b.To), byReply(a.Reply, b.Reply))
	})
	out.Conflicts = ordered(s.Conflicts, func(a, b evidence.Conflict) int {
		return cmp.Or(a.Address.Compare(b.Address), byReply(a.Reply, b.Reply))
	})
	out.Routers6 = ordered(s.Routers6, func(a, b evidence.Advertisement) int { return a.Router.Compare(b.Router) })
	if s.Discovery != nil {
		d := *s.Discovery
		d.Refusals, d.Serving = ordered(d.Refusals, netip.Addr.Compare), ordered(d.Serving, netip.Addr.Compare)
		d.Offers = ordered(d.Offers, func(a, b evidence.Offer) int { return a.Server.Compare(b.Server) })
		out.Discovery = &d
	}
	for i := range out.Lookups {
		out.Lookups[i].Reply = localized(s.Endpoint, out.Lookups[i].Reply)
	}
	for i := range out.Echoes {
		out.Echoes[i].Reply = localized(s.Endpoint, out.Echoes[i].Reply)
	}
	for i := range out.Connects {
		out.Connects[i].Reply = localized(s.Endpoint, out.Connects[i].Reply)
	}
	for i := range out.Hops {
		out.Hops[i].Reply = localized(s.Endpoint, out.Hops[i].Reply)
	}
	return &out
}

// merged puts all probes to one address together; the usual time is that of the larger part.
func merged(list []evidence.Burst, by func(a, b evidence.Burst) int) (out []evidence.Burst) {
	for _, b := range ordered(list, by) {
		n := len(out) - 1
		if n < 0 || out[n].To != b.To {
			out = append(out, b) // of one address, the part with most replies comes first
			continue
		}
		out[n].Sent, out[n].Received = out[n].Sent+b.Sent, out[n].Received+b.Received
	}
	return out
}

func ordered[T any](list []T, by func(a, b T) int) []T {
	list = slices.Clone(list)
	slices.SortStableFunc(list, by)
	return list
}

// localized turns "host unreachable" that the machine's own kernel said into what it is: the packet was not sent, for want of the next
// hop's hardware address (RFC 1122 §2.3.2.2). Nobody out there has spoken.
func localized(e *endpoint.Endpoint, r evidence.Reply) evidence.Reply {
	if e != nil && r.Outcome == evidence.Unreachable && r.Why == evidence.NoHost && e.Owns(r.From) {
		return evidence.Reply{Outcome: evidence.LocalError, Reason: "the next hop's hardware address is not to be had", RTT: r.RTT}
	}
	return r
}
