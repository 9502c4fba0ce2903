package plan

import (
	"context"
	"net/netip"
	"slices"
	"time"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/path"
	"passepartout/internal/probe"
)

const (
	// Hops that keep silent are asked again when routers that limit their errors to one a second may speak again.
	traceAgain    = time.Second
	tracePatience = 600 * time.Millisecond
	traceLast     = 16

	mostServersTraced = 2

	// By then a look-up that works has given an address, and a server has made an offer.
	nowhereAfter = 250 * time.Millisecond
	nowhereLast  = 6
)

var pathSteps = []*step{
	// A trace by datagrams uses up the errors that the target grants, and sizes are told by them as well: it begins when those are on their
	// way.
	{brings: kinds(evidence.PathTrace), after: kinds(evidence.RouteLookup), of: routedAndSized, ask: (*run).traceTarget},
	// Name servers beyond the gateway, set or offered, are the first witnesses that tell one target from all.
	{brings: kinds(evidence.PathTrace), after: kinds(evidence.NameLookup), of: serversBeyond, ask: (*run).traceServer},
	{brings: kinds(evidence.PathTrace), of: nowhere, until: lifeBeyond, ask: (*run).traceNowhere},
}

func routedAndSized(m *moment) (out []subject) {
	for _, route := range m.ways() {
		s := subject{addr: route.To}
		if route.Via.IsValid() && (m.ended(targetSize, s) || m.marked(mark{sizing, route.To})) {
			out = append(out, s)
		}
	}
	return out
}

// notBehindGateway marks a name server that is not reached through a gateway.
const notBehindGateway = "no gateway on the way"

// serversBeyond are the first that may be reached through a gateway.
func serversBeyond(m *moment) (out []subject) {
	servers := m.Endpoint.AskedResolvers()
	offers, _ := m.OffersSeen()
	for _, o := range offers {
		servers = append(servers, o.Resolvers...)
	}
	for _, a := range servers {
		s := subject{addr: a}
		if len(out) < mostServersTraced && m.Families.Allows(a) && !m.Endpoint.OnLink(a) && !m.marked(mark{notBehindGateway, a}) &&
			!slices.Contains(out, s) {
			out = append(out, s)
		}
	}
	return out
}

// nowhere is asked for when no address beyond the gateway is known: no name server, set or offered, and no address of the target.
func nowhere(m *moment) []subject {
	if m.Families.No4 || !m.past(nowhereAfter) || len(serversBeyond(m)) > 0 || len(m.Routes) > 0 {
		return nil
	}
	return once(m)
}

// lifeBeyond: life behind the gateway is all that was asked for.
func lifeBeyond(m *moment, _ subject) (bool, time.Duration) { return len(m.Outside) > 0, 0 }

// trace asks the routers on the way to an address.
func (r *run) trace(ctx context.Context, to netip.Addr, last int) {
	method := probe.TraceICMP
	if !r.allowed.Echo.Granted {
		method = probe.TraceUDP
	}
	_, _ = probe.Trace(ctx, r.echoer,
		probe.TraceQuestion{To: netip.AddrPortFrom(to, r.Target.Port), Method: method, First: 1, Last: last, Patience: tracePatience,
			Again: traceAgain},
		func(h path.Seen) {
			r.observe(evidence.Hop{To: to, Method: string(method), HopLimit: h.HopLimit, Reply: h.Reply})
		})
}

func (r *run) traceTarget(ctx context.Context, s subject) { r.trace(ctx, s.addr, traceLast) }

func (r *run) traceServer(ctx context.Context, s subject) {
	if !r.behindGateway(ctx, s.addr) {
		r.mark(mark{notBehindGateway, s.addr})
		return
	}
	r.trace(ctx, s.addr, traceLast)
}

func (r *run) traceNowhere(ctx context.Context, _ subject) {
	if r.behindGateway(ctx, evidence.Unassigned) {
		r.trace(ctx, evidence.Unassigned, nowhereLast)
	}
}

func (r *run) behindGateway(ctx context.Context, a netip.Addr) bool {
	route, err := r.Machine.Route(ctx, a, "")
	return err == nil && route.Verdict == endpoint.Forward && route.Via.IsValid()
}

// markQuiet notes hops that have kept silent so far though later ones answered: their patience is not over, but enough has passed to tell.
func (r *run) markQuiet() {
	var quiet []evidence.Observation
	s := r.snapshot()
	var to []netip.Addr
	for _, h := range s.Hops {
		if !slices.Contains(to, h.To) {
			to = append(to, h.To)
		}
	}
	for _, a := range to {
		t, _ := s.TrailTo(a)
		last, ok := t.Last()
		if !ok {
			continue
		}
		seen := map[int]bool{}
		for _, st := range t.Stations {
			seen[st.HopLimit] = true
		}
		for hop := 1; hop < last.HopLimit; hop++ {
			if !seen[hop] {
				quiet = append(quiet,
					evidence.Hop{To: a, Method: t.Method, HopLimit: hop,
						Reply: evidence.Reply{Outcome: evidence.Silent, Waited: time.Since(r.began)}})
			}
		}
	}
	r.observe(quiet...)
}
