package plan

import (
	"context"
	"net/netip"
	"slices"
	"time"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/facts"
	"passepartout/internal/nap"
)

// The times of the hand-offs.
const (
	// How long a neighbour gets to say that the hop limit ran out: it looks at that first, and need not ask anybody for it.
	handoffPatience = 250 * time.Millisecond
	// What lies beyond the gateway may be far: while nothing has come from there it is given this long, then three times the slowest answer
	// and a grace.
	throughPatience = 1200 * time.Millisecond
	throughGrace    = 250 * time.Millisecond
)

// The hand-offs give packets to other neighbours than the routing table names, when the way it names leads nowhere: to the gateway what the
// mask takes for a neighbour, and to every neighbour what a gateway does not pass on.
var handoffSteps = []*step{
	{brings: kinds(evidence.Handoffs),
		after: kinds(evidence.GatewayNeighbour, evidence.OtherNeighbours, evidence.NameLookup, evidence.RouteLookup),
		of:    silentOnLink, needless: noHandoffs, until: routerGone, ask: (*run).through},
	{brings: kinds(evidence.Handoffs), of: detoured, needless: noHandoffs, until: routerGone, ask: (*run).through},
	{brings: kinds(evidence.Handoffs), after: kinds(evidence.RouteLookup, evidence.ServiceConnect), of: routersToTry,
		needless: oneRouter, ask: (*run).byRouter},
	{test: "another-neighbour", brings: kinds(evidence.Handoffs), after: kinds(evidence.OtherNeighbours), most: sweepMost,
		of:       neighboursMet,
		needless: noHandoffs, until: forwarderFound, ask: (*run).handOff},
}

func noHandoffs(m *moment) bool {
	return noFrames(m) || m.Families.No4 || m.Iface == nil || len(m.Iface.Usable(false)) == 0 || works(m)
}

// silentOnLink are the addresses that the mask takes for neighbours and that nobody answers for, each with the routers that may know
// better.
func silentOnLink(m *moment) (out []subject) {
	for _, a := range m.WantedOnLink() {
		if !gone(m, a) {
			continue
		}
		for _, by := range m.RoutersNamed() {
			if by != a && !gone(m, by) {
				out = append(out, subject{addr: a, by: by})
			}
		}
	}
	return out
}

// detoured are silent addresses of the target that a route of their own leads past the default gateway, each with that: whether the route
// is wrong or its next hop is, only the default gateway can tell.
func detoured(m *moment) (out []subject) {
	for _, way := range m.ways() {
		defaults := m.Endpoint.DefaultRoutes(false)
		if !way.To.Is4() || !way.Via.IsValid() || len(defaults) == 0 || !defaults[0].Via.IsValid() || defaults[0].Via == way.Via ||
			defaults[0].Interface != way.Interface || way.Interface != m.Iface.Name {
			continue
		}
		if slices.ContainsFunc(m.Connects, func(c evidence.Connect) bool {
			return c.To.Addr() == way.To && !c.Came() && c.Outcome != evidence.NotKnown
		}) {
			out = append(out, subject{addr: way.To, by: defaults[0].Via})
		}
	}
	return out
}

func oneRouter(m *moment) bool {
	return noFrames(m) || m.Iface == nil || !m.Endpoint.SeveralDefaults()
}

// namesSilent is when a name server that has not answered has been told to keep silent.
const namesSilent = 1700 * time.Millisecond

// routersToTry are the other default routers for what is not reached by the one that the system takes, and all that share the traffic for
// what is: by the others it might not be.
func routersToTry(m *moment) (out []subject) {
	for _, a := range m.Sought() {
		routers := m.Routers(a)
		if len(routers) < 2 {
			continue
		}
		shared, fails := facts.Shared(routers), m.Fails(a)
		if !fails && len(m.Addresses) == 0 {
			m.past(namesSilent) // until then it may
		}
		for i, by := range routers {
			if fails && (i > 0 || shared) || shared && by.Shares && m.Acid(a) == facts.Yes {
				out = append(out, subject{addr: a, by: by.Address, port: m.run.handedPort(a)})
			}
		}
	}
	return out
}

// handedPort is the port at which an address is asked when it is handed to a router: the target's, or that of DNS.
func (r *run) handedPort(a netip.Addr) uint16 {
	if slices.Contains(r.endpoint.AskedResolvers(), a) {
		return 53
	}
	return r.ports()[0]
}

// byRouter hands one of several routers what is asked for.
func (r *run) byRouter(ctx context.Context, s subject) {
	f, from := facts.New(r.snapshot()), r.sourceFor(s.addr)
	if way, known := f.RouteTo(s.addr); known && way.Source.IsValid() {
		from = way.Source
	}
	out := evidence.Handoff{To: s.addr, By: s.by, HopLimit: 64}
	r.observe(out) // before the answer can arrive at the interface
	n := r.segment.Resolve(ctx, r.sourceFor(s.by), s.by)
	out.Reply = n.Reply
	tries := 1
	if f.Acid(s.addr) == facts.Yes {
		tries = 2 // there silence is the finding
	}
	for range tries {
		if n.Outcome != evidence.Answered || len(n.Hardware) == 0 || ctx.Err() != nil {
			break
		}
		one, done := nap.Within(ctx, r.throughWait())
		out = r.segment.HandTo(one, s.by, n.Hardware[0], from, netip.AddrPortFrom(s.addr, s.port), 64)
		done()
		if out.Came() {
			break
		}
	}
	if ctx.Err() == nil || out.Came() {
		r.observe(out)
	}
}

// throughWait is how long what was handed to a router is waited for.
func (r *run) throughWait() time.Duration {
	if slowest := facts.New(r.snapshot()).SlowestOutside(); slowest > 0 {
		return min(throughPatience, 3*slowest+throughGrace)
	}
	return throughPatience
}

func routerGone(m *moment, s subject) (bool, time.Duration) { return gone(m, s.by), 0 }

// through hands a router what the mask takes for a neighbour.
func (r *run) through(ctx context.Context, s subject) {
	ctx, cancel := nap.Within(ctx, r.throughWait())
	defer cancel()
	n := r.segment.Resolve(ctx, r.sourceFor(s.by), s.by)
	if n.Outcome != evidence.Answered || len(n.Hardware) == 0 {
		return
	}
	r.observe(evidence.Handoff{To: s.addr, By: s.by, HopLimit: 64}) // before the answer can arrive at the interface
	r.observe(r.segment.HandTo(ctx, s.by, n.Hardware[0], r.sourceFor(s.by), netip.AddrPortFrom(s.addr, r.Target.Port), 64))
}

// neighboursMet are those that the sweep finds, while the gateway's way leads nowhere.
func neighboursMet(m *moment) (out []subject) {
	if !m.GatewayDoubtful() || forwards(m.Set) {
		return nil
	}
	for _, n := range m.Neighbours {
		if s := (subject{by: n.Asked}); n.Outcome == evidence.Answered && len(n.Hardware) > 0 && n.Asked.Is4() && n.Asked != m.Gateway &&
			!slices.Contains(out, s) {
			out = append(out, s)
		}
	}
	return out
}

// forwards reports whether a neighbour has been found that passes traffic on: nobody else need be asked.
func forwards(s *evidence.Set) bool {
	return slices.ContainsFunc(s.Handoffs, func(h evidence.Handoff) bool { return h.HopLimit == 1 && h.Passed() })
}

func forwarderFound(m *moment, _ subject) (bool, time.Duration) { return forwards(m.Set), 0 }

// handOff hands a neighbour a packet for elsewhere whose hop limit runs out there, if it passes it on.
func (r *run) handOff(ctx context.Context, s subject) {
	f := facts.New(r.snapshot())
	n, _ := f.Neighbour(s.by)
	if len(n.Hardware) == 0 {
		return
	}
	to := evidence.Unassigned
	for _, a := range f.Addresses {
		if a.Is4() && !f.OnLink(a) {
			to = a
		}
	}
	one, done := nap.Within(ctx, handoffPatience)
	defer done()
	if h := r.segment.HandTo(one, s.by, n.Hardware[0], r.sourceFor(s.by), netip.AddrPortFrom(to, 0), 1); ctx.Err() == nil || h.Came() {
		r.observe(h)
	}
}
