package plan

import (
	"context"
	"net/netip"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/facts"
	"passepartout/internal/core/subnet"
	"passepartout/internal/guard"
	"passepartout/internal/nap"
	"passepartout/internal/probe"
)

// The times of the questions to the segment, each with its reason.
const (
	// A second of silence is three requests unanswered.
	neighbourPatience = 1100 * time.Millisecond
	// When the gateway has not answered by then, the rest of the segment is asked: one that answers does so within a few milliseconds.
	sweepAfter = 200 * time.Millisecond
	// The rate and number of the sweep: with all else that is asked at the same time no more than fifty requests go out in any second,
	// since switches shut a port for not much more. It is enough to find a living segment, the likely ones being asked first.
	sweepRate, sweepMost = 36, 48
	// Where the kernel asks on our behalf, it asks each three times, a second apart but for a tick of its clock (arp(7): mcast_solicit): two
	// rounds may fall within one second.
	provokeMost   = 23
	sweepPatience = 250 * time.Millisecond
	// An entry that was used is asked for anew after five seconds, for three more (arp(7): delay_first_probe_time, ucast_solicit).
	anewPatience = 6500 * time.Millisecond
	// How often all IPv6 machines are called: one call may be lost.
	callAllTimes = 3
	// Enough neighbours to know that the segment is alive.
	sweepEnough = 5
	// The wait for answers whose absence is good news: never less than this, or four times the slowest answer on the segment.
	silenceFloor = 50 * time.Millisecond
	// How long a segment on which nobody answers is given.
	silenceCeiling = 300 * time.Millisecond
)

var hostSteps = []*step{
	{brings: kinds(evidence.Loopback), of: once, ask: (*run).loopback},
}

var segmentSteps = []*step{
	{brings: kinds(evidence.GatewayNeighbour), of: gateways, ask: (*run).neighbour},
	{brings: kinds(evidence.OtherNeighbours), of: resolversOnLink, ask: (*run).neighbour},
	{brings: kinds(evidence.OtherNeighbours), after: kinds(evidence.RouteLookup), of: targetsOnLink, needless: noFrames,
		ask: (*run).neighbour},
	{brings: kinds(evidence.OtherNeighbours), after: kinds(evidence.RouteLookup), of: targetsNearby, ask: (*run).nearby},
	gatewayEcho,
	{brings: kinds(evidence.AddressConflict), of: heldAddresses, needless: noFrames, until: holderOver, ask: (*run).conflict},
	{brings: kinds(evidence.OtherNeighbours), of: segmentToSweep, ask: (*run).sweep},
	{brings: kinds(evidence.OtherNeighbours), of: remembered, needless: segmentSpeaks, until: untilItSpeaks, ask: (*run).askedAnew},
	{brings: kinds(evidence.SegmentFrames), of: when((*moment).silent), ask: func(r *run, _ context.Context, _ subject) {
		r.askedTwice()
		r.markQuiet()
	}},
}

var gatewayEcho = &step{brings: kinds(evidence.GatewayEcho), of: gateways, ask: (*run).gatewayEcho}

func kinds(list ...evidence.Kind) []evidence.Kind { return list }

func noFrames(m *moment) bool { return m.run.segment == nil }

// onSegment reports whether the interface is in a state in which the segment can be asked.
func (m *moment) onSegment() bool { return m.Iface != nil && m.Iface.Up }

// gateways are those of the interface.
func gateways(m *moment) (out []subject) {
	if !m.onSegment() {
		return nil
	}
	for _, v6 := range []bool{false, true} {
		if gw, ok := m.Endpoint.Gateway(m.Iface.Name, v6); ok && m.Families.Allows(gw) {
			out = append(out, subject{addr: gw})
		}
	}
	for _, way := range m.ways() { // a route of the target's own may lead by another
		if s := (subject{addr: way.Via}); way.Via.IsValid() && way.Interface == m.Iface.Name && !slices.Contains(out, s) {
			out = append(out, s)
		}
	}
	return out
}

// resolversOnLink are the name servers on the segment that are no gateway.
func resolversOnLink(m *moment) (out []subject) {
	if !m.onSegment() {
		return nil
	}
	known := gateways(m)
	for _, a := range m.Endpoint.AskedResolvers() {
		if s := (subject{addr: a}); m.Iface.OnLink(a) && !m.Owns(a) && !slices.Contains(known, s) {
			out = append(out, s)
		}
	}
	return out
}

// targetsOnLink are the target's addresses that need no gateway.
func targetsOnLink(m *moment) (out []subject) {
	for _, route := range m.ways() {
		if route.Verdict == endpoint.Forward && !route.Via.IsValid() && m.OnLink(route.To) {
			out = append(out, subject{addr: route.To})
		}
	}
	return out
}

// targetsNearby are the target's addresses of other networks that may stand on the segment all the same.
func targetsNearby(m *moment) (out []subject) {
	if !m.onSegment() || len(m.Iface.Usable(false)) == 0 {
		return nil
	}
	for _, a := range m.NearbyPerhaps() {
		out = append(out, subject{addr: a})
	}
	return out
}

// heldAddresses are the own addresses of which another machine may hold one as well.
func heldAddresses(m *moment) (out []subject) {
	if !m.onSegment() {
		return nil
	}
	for _, a := range m.Iface.Usable(false) {
		out = append(out, subject{addr: a.Prefix.Addr()})
	}
	if own, ok := m.Iface.LinkLocal(); ok {
		for _, a := range m.Iface.Addresses {
			if x := a.Prefix.Addr(); x.Is6() && !x.IsLinkLocalUnicast() {
				out = append(out, subject{addr: x, by: own})
			}
		}
	}
	return out
}

// segmentToSweep is there when the gateway has not soon shown that it is there, and later when it passes nothing on.
func segmentToSweep(m *moment) []subject {
	if !m.onSegment() || !m.past(sweepAfter) {
		return nil
	}
	if m.Alive == facts.Yes && (len(m.Iface.Usable(false)) == 0 || !m.Gateway.Is4() || m.Forwards == facts.Yes || noFrames(m) ||
		!m.past(doubtAfter) || !m.GatewayDoubtful()) {
		return nil
	}
	return once(m)
}

// remembered are the neighbours of whom the kernel knew before, so that it has not asked them. Where nobody else on the segment has
// answered, they are the only ones who can say that it lives.
func remembered(m *moment) (out []subject) {
	for _, n := range m.Neighbours {
		if n.Outcome == evidence.NotKnown && n.Reason == evidence.Remembered && n.Asked != m.Gateway && n.Asked.Is4() {
			out = append(out, subject{addr: n.Asked})
		}
	}
	return out
}

// segmentSpeaks reports whether the gateway or anybody else on the segment has answered.
func segmentSpeaks(m *moment) bool {
	return m.Alive == facts.Yes || slices.ContainsFunc(m.Neighbours, func(n evidence.Neighbour) bool { return n.Outcome == evidence.Answered })
}

func untilItSpeaks(m *moment, _ subject) (bool, time.Duration) { return segmentSpeaks(m), 0 }

// silent reports whether the wait for answers whose absence is good news is over.
func (m *moment) silent() bool {
	if !m.run.quiet {
		until := silenceCeiling
		if slowest(m.Set) > 0 || noFrames(m) {
			until = silenceTime(m.Set)
		}
		m.run.quiet = m.past(until + m.run.late(0))
	}
	return m.run.quiet
}

// holderOver: another holder of an own address would have answered by now. Where the gateway has not answered, he has as long as it has:
// its answers may go to him.
func holderOver(m *moment, _ subject) (bool, time.Duration) {
	return m.silent() && (m.Alive == facts.Yes || m.Usable() == facts.Yes || m.past(neighbourPatience)), 0
}

// slowest is the slowest answer that came from the segment itself, 0 while none has.
func slowest(s *evidence.Set) (slowest time.Duration) {
	for _, n := range s.Neighbours {
		if n.Outcome == evidence.Answered && n.Asks <= 1 && len(n.Hardware) <= 1 {
			slowest = max(slowest, n.RTT)
		}
	}
	return slowest
}

func silenceTime(s *evidence.Set) time.Duration { return max(silenceFloor, 4*slowest(s)) }

// gone reports whether a neighbour has kept silent to the end: what was sent there needs no longer waiting for.
func gone(m *moment, a netip.Addr) bool {
	n, asked := m.Neighbour(a)
	return asked && n.Outcome == evidence.Silent
}

func (r *run) loopback(ctx context.Context, _ subject) {
	addr := netip.MustParseAddr("127.0.0.1")
	if r.Families.No4 {
		addr = netip.IPv6Loopback()
	}
	var e evidence.Echo
	for range 2 { // once more, since a machine that stalls for a moment must not pass for one that is broken
		ask, cancel := nap.Within(ctx, 500*time.Millisecond)
		e, _ = r.echoer.AskEcho(ask, probe.EchoQuestion{To: addr, Size: 24})
		cancel()
		if e.Outcome != evidence.Silent || ctx.Err() != nil {
			break
		}
	}
	r.observe(evidence.OwnEcho(e))
}

// nearby asks the segment for an address of another network. Who answers is asked for two more, and before it counts: one that nobody has,
// and the one next to it. A router that answers for all that it knows a way to (RFC 1027) is no such device.
func (r *run) nearby(ctx context.Context, s subject) {
	n, ok := r.whoHas(ctx, s.addr, neighbourPatience)
	if !ok {
		return
	}
	if n.Outcome == evidence.Answered {
		var wg sync.WaitGroup
		for _, other := range []netip.Addr{facts.Nobody, s.addr.Next()} {
			wg.Go(func() {
				defer guard.Goroutine()
				if x, ok := r.whoHas(ctx, other, sweepPatience+4*n.RTT); ok && x.Outcome == evidence.Answered {
					r.observe(x)
				}
			})
		}
		wg.Wait()
	}
	r.observe(n)
}

// whoHas asks the segment for an address; ok is false when the run ended before an answer.
func (r *run) whoHas(ctx context.Context, a netip.Addr, patience time.Duration) (n evidence.Neighbour, ok bool) {
	if r.segment != nil {
		ctx, cancel := nap.Within(ctx, patience)
		defer cancel()
		n = r.segment.Resolve(ctx, r.sourceFor(a), a)
		return n, !r.stopped() || n.Came()
	}
	r.provoke(ctx, []netip.Addr{a}, patience, func(x evidence.Neighbour) { n, ok = x, true })
	return n, ok && !r.stopped()
}

// neighbour resolves an address on the segment: in frames where permitted, else by provoking the kernel.
func (r *run) neighbour(ctx context.Context, s subject) {
	if r.segment == nil {
		r.provoke(ctx, []netip.Addr{s.addr}, neighbourPatience, func(n evidence.Neighbour) {
			if ctx.Err() == nil {
				r.observe(n)
			}
		})
		return
	}
	if n := r.segment.Resolve(ctx, r.sourceFor(s.addr), s.addr); ctx.Err() == nil || n.Came() {
		r.observe(n)
	}
}

// provoke has the kernel ask. Who was resolved since the run began has answered it: the system may have asked for something else that the
// run sent there.
func (r *run) provoke(ctx context.Context, targets []netip.Addr, patience time.Duration, done func(evidence.Neighbour)) {
	probe.ProvokeSince(ctx, r.Machine, r.iface, r.endpoint.Neighbours, targets, patience, done)
}

// askedAnew waits until the kernel asks a neighbour anew that it remembers.
func (r *run) askedAnew(ctx context.Context, s subject) {
	r.provoke(ctx, []netip.Addr{s.addr}, anewPatience, func(n evidence.Neighbour) {
		if ctx.Err() == nil && n.Outcome != evidence.NotKnown {
			r.observe(n)
		}
	})
}

// sourceFor is an own address from which to ask for a neighbour: one of the same scope.
func (r *run) sourceFor(to netip.Addr) netip.Addr {
	iface, ok := r.endpoint.Interface(r.iface)
	if !ok {
		return netip.Addr{}
	}
	if to.Is4() {
		if own := iface.Usable(false); len(own) > 0 {
			return own[0].Prefix.Addr()
		}
		return netip.Addr{}
	}
	for _, a := range iface.Addresses {
		own := a.Prefix.Addr()
		if own.Is6() && own.IsLinkLocalUnicast() == to.IsLinkLocalUnicast() && !a.Tentative && !a.Duplicate {
			return own
		}
	}
	return netip.Addr{}
}

// gatewayEcho asks the gateway for an echo: three times, since the first may be lost while its hardware address is being asked for.
func (r *run) gatewayEcho(ctx context.Context, s subject) {
	gw := s.addr
	if gw.IsLinkLocalUnicast() && gw.Is6() {
		gw = gw.WithZone(r.iface)
	}
	for _, wait := range []time.Duration{0, 300 * time.Millisecond, 600 * time.Millisecond} {
		ask, cancel := nap.Within(ctx, max(wait, silenceTime(r.snapshot())))
		e, _ := r.echoer.AskEcho(ask, probe.EchoQuestion{To: gw, Size: 24})
		cancel()
		if ctx.Err() != nil && !e.Came() {
			return
		}
		e.Asked = gw.WithZone("")
		r.observe(e)
		if e.Came() {
			return
		}
	}
}

// echoes reports whether an address has answered an echo.
func echoes(s *evidence.Set, a netip.Addr) bool {
	return slices.ContainsFunc(s.Echoes, func(e evidence.Echo) bool { return e.Asked == a.WithZone("") && e.Outcome == evidence.Answered })
}

// conflict asks whether another machine holds an own address. For IPv6 the segment is asked from the link-local address: this machine
// itself does not hear the question, so that whoever answers is another one (RFC 4861 §7.2.4).
func (r *run) conflict(ctx context.Context, s subject) {
	var c evidence.Conflict
	if s.addr.Is4() {
		c = r.segment.Conflict(ctx, s.addr)
	} else {
		began := time.Now()
		n := r.segment.Resolve(ctx, s.by, s.addr)
		c = evidence.Conflict{Address: s.addr, Reply: evidence.Reply{Outcome: evidence.Silent, Waited: time.Since(began)}}
		if n.Outcome == evidence.Answered && len(n.Hardware) > 0 {
			c.Reply, c.Hardware = n.Reply, n.Hardware[0]
		}
	}
	if !r.stopped() || c.Came() {
		r.observeHolder(c)
	}
}

// observeHolder notes whether an own address has another holder; one is enough.
func (r *run) observeHolder(c evidence.Conflict) {
	r.observeIf(func(s *evidence.Set) bool {
		return !slices.ContainsFunc(s.Conflicts, func(x evidence.Conflict) bool {
			return x.Address == c.Address && x.Outcome == evidence.Answered && x.Hardware == c.Hardware
		})
	}, c)
}

// askedTwice looks again who has answered for the gateways: the first answer ended the question, and a second one is the finding.
func (r *run) askedTwice() {
	if r.segment == nil {
		return
	}
	for _, v6 := range []bool{false, true} {
		gw, ok := r.endpoint.Gateway(r.iface, v6)
		if holders := r.segment.Holders(gw); ok && len(holders) > 1 {
			r.observe(evidence.Neighbour{Asked: gw, Method: "arp", Asks: 1, Hardware: holders,
				Reply: evidence.Reply{Outcome: evidence.Answered, From: gw, RTT: time.Since(r.began)}})
		}
	}
}

// callAll asks all IPv6 machines of the segment at once: a prefix of IPv6 is too large to be gone through (RFC 7707).
func (r *run) callAll(ctx context.Context, iface *endpoint.Interface) {
	if r.segment == nil {
		return
	}
	var own []netip.Addr // who has no way back to the one may have one to the other
	if a, ok := iface.LinkLocal(); ok {
		own = append(own, a)
	}
	if global := iface.Usable(true); len(global) > 0 {
		own = append(own, global[0].Prefix.Addr())
	}
	for range callAllTimes {
		for _, from := range own {
			_ = r.segment.AskAllNodes(from)
		}
		if !probe.Sleep(ctx, sweepPatience) {
			return
		}
	}
	r.observe(evidence.Sweep{Done: true})
}

// sweep asks everybody on the segment.
func (r *run) sweep(ctx context.Context, _ subject) {
	iface, ok := r.endpoint.Interface(r.iface)
	if !ok {
		return
	}
	own := iface.Usable(false)
	if len(own) == 0 {
		r.callAll(ctx, iface)
		return
	}
	f := facts.New(r.snapshot())
	targets := likelyNeighbours(f, own[0].Prefix)
	var answered atomic.Int32
	done := func(n evidence.Neighbour) {
		if n.Outcome != evidence.Answered {
			return
		}
		answered.Add(1)
		r.observe(n)
	}
	// Five show that the segment lives. Where the gateway came by DHCP, it may be that another one is the router: then all are asked, until
	// one is found.
	enough := func() bool { return answered.Load() >= sweepEnough }
	if f.GatewayFromDHCP() {
		enough = func() bool {
			return forwards(r.snapshot())
		}
	}
	swept := 0
	if r.segment != nil {
		swept = r.segment.Sweep(ctx, own[0].Prefix.Addr(), targets, sweepRate, sweepPatience, done, enough)
	} else {
		targets = targets[:min(len(targets), provokeMost)]
		// a living segment has answered by half of the time; a dead one gets the system's second request as well
		asking, cancel := context.WithCancel(ctx)
		half := time.AfterFunc(neighbourPatience/2, func() {
			if answered.Load() > 0 {
				cancel()
			}
		})
		r.provoke(asking, targets, neighbourPatience, done)
		half.Stop()
		cancel()
		swept = len(targets)
	}
	if ctx.Err() == nil {
		r.observe(evidence.Sweep{Asked: swept, Done: true})
	}
}

// likelyNeighbours lists who may stand on a segment, the likely ones first: routers and servers that are named, whom this machine has known
// before, the ends of the prefix, where routers stand; then what lies nearest to this machine.
func likelyNeighbours(f *facts.Facts, prefix netip.Prefix) (out []netip.Addr) {
	servers, _ := f.ResolversNamed()
	likely := slices.Concat(f.RoutersNamed(), servers, f.Endpoint.AskedResolvers())
	for _, n := range f.Endpoint.Neighbours {
		if n.Interface == f.Interface {
			likely = append(likely, n.Address)
		}
	}
	likely = append(likely, prefix.Masked().Addr().Next(), subnet.Last(prefix).Prev())
	for _, a := range slices.Concat(likely, slices.Collect(subnet.Around(prefix, prefix.Addr(), sweepMost))) {
		if len(out) < sweepMost && a.Is4() && prefix.Masked().Contains(a) && subnet.Usable(prefix, a) && a != prefix.Addr() &&
			a != f.Gateway && !slices.Contains(out, a) {
			out = append(out, a)
		}
	}
	return out
}
