package plan

import (
	"context"
	"net/netip"
	"slices"
	"sync/atomic"
	"time"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/facts"
	"passepartout/internal/core/subnet"
	"passepartout/internal/probe"
)

// The times of the local questions, each with its reason.
const (
	// A second of silence is three requests unanswered.
	neighbourPatience = 1100 * time.Millisecond
	// When the gateway has not answered by then, the rest of the segment is asked: one that answers does so within a few milliseconds.
	sweepAfter = 200 * time.Millisecond
	// The rate and number of the sweep: polite, and enough to find a living segment.
	sweepRate, sweepMost = 300, 254
	sweepPatience        = 250 * time.Millisecond
	// How often all IPv6 machines are called: one call may be lost.
	callAllTimes = 3
	// Enough neighbours to know that the segment is alive.
	sweepEnough = 5
	// The last discover goes out at 1.1 s; a server that must not test the address first answers long before 1.8 s.
	discoverPatience = 1800 * time.Millisecond
	// A server that tests the address first (RFC 2131 §2.2) takes one to three seconds. That it does shows: it asks for the address by ARP.
	discoverTesting = 4 * time.Second
	// The wait for answers whose absence is good news: never less than this, or four times the slowest answer on the segment.
	silenceFloor = 50 * time.Millisecond
	// How long a segment on which nobody answers is given.
	silenceCeiling = 300 * time.Millisecond
)

var discoverAt = []time.Duration{0, 500 * time.Millisecond, 1100 * time.Millisecond}

func (r *run) loopback(ctx context.Context) {
	addr := netip.MustParseAddr("127.0.0.1")
	if r.Families.No4 {
		addr = netip.IPv6Loopback()
	}
	var e evidence.Echo
	for range 2 { // once more, since a machine that stalls for a moment must not pass for one that is broken
		ask, cancel := context.WithTimeout(ctx, 500*time.Millisecond)
		e, _ = r.echoer.AskEcho(ask, probe.EchoQuestion{To: addr, Size: 24})
		cancel()
		if e.Outcome != evidence.Silent || ctx.Err() != nil {
			break
		}
	}
	r.observe(evidence.OwnEcho(e))
}

// startSegment asks the segment: gateway, resolvers on it, conflicts, DHCP, and everybody when the gateway keeps silent.
func (r *run) startSegment(ctx context.Context, iface *endpoint.Interface) {
	r.segment = r.openSegment(ctx, func(a netip.Addr) bool { return r.endpoint.Owns(a) })
	if r.segment != nil {
		r.wg.Go(func() { <-ctx.Done(); r.segment.Close() })
	}
	sender := netip.Addr{}
	if own := iface.Usable(false); len(own) > 0 {
		sender = own[0].Prefix.Addr()
	}
	var gateways, others []netip.Addr
	for _, v6 := range []bool{false, true} {
		if gw, ok := r.endpoint.Gateway(iface.Name, v6); ok && r.Families.Allows(gw) {
			gateways = append(gateways, gw)
		}
	}
	for _, a := range r.endpoint.AskedResolvers() {
		if iface.OnLink(a) && !r.endpoint.Owns(a) && !slices.Contains(gateways, a) {
			others = append(others, a)
		}
	}
	for _, a := range iface.Addresses {
		if a.Duplicate { // the system has found out by itself (RFC 4862 §5.4.5)
			r.observe(evidence.Conflict{Address: a.Prefix.Addr(), Reply: evidence.Reply{Outcome: evidence.Answered, From: a.Prefix.Addr()}})
		}
	}
	r.neighbours(ctx, iface, gateways, sender, evidence.GatewayNeighbour)
	r.neighbours(ctx, iface, others, sender, evidence.OtherNeighbours)
	for _, gw := range gateways {
		over := make(chan struct{}) // closed when the gateway is known not to answer echo
		r.step(func() {
			if !r.gatewayEcho(ctx, gw) {
				close(over)
			}
		}, evidence.GatewayEcho)
		r.step(func() { r.gatewayQuality(ctx, gw, over) }, evidence.LossProbes)
		r.step(func() { r.size(ctx, gw, iface.Name, over, nil) }, evidence.PacketSize)
	}
	r.step(func() { r.sweep(ctx, iface, sender) }, evidence.OtherNeighbours)
	if r.segment != nil {
		for _, a := range iface.Usable(false) {
			r.step(func() { r.conflict(ctx, a.Prefix.Addr()) }, evidence.AddressConflict)
		}
		if own, ok := iface.LinkLocal(); ok {
			for _, a := range iface.Addresses {
				if x := a.Prefix.Addr(); x.Is6() && !x.IsLinkLocalUnicast() {
					r.step(func() { r.conflict6(ctx, own, x) }, evidence.AddressConflict)
				}
			}
		}
		r.step(func() { r.discover(ctx, iface) }, evidence.DHCPOffer)
		r.handOff(ctx, iface)
		r.solicit(ctx, iface)
	}
}

// solicit asks IPv6 routers and DHCPv6 servers what they say of the segment. Nothing waits for them.
func (r *run) solicit(ctx context.Context, iface *endpoint.Interface) {
	own, ok := iface.LinkLocal()
	if !ok {
		return
	}
	r.wg.Go(func() {
		ctx, cancel := context.WithTimeout(ctx, discoverPatience)
		defer cancel()
		r.segment.Solicit(ctx, own, func(a evidence.Advertisement) { r.observe(a) },
			func(i evidence.Information) { r.observe(i) })
	})
}

// neighbours resolves addresses on the segment: in frames where permitted, else by provoking the kernel.
func (r *run) neighbours(ctx context.Context, iface *endpoint.Interface, targets []netip.Addr, sender netip.Addr, kind evidence.Kind) {
	if len(targets) == 0 {
		return
	}
	record := func(n evidence.Neighbour) {
		r.observe(n)
		if n.Outcome == evidence.Silent {
			r.present(n.Asked).end()
		}
	}
	if r.segment == nil {
		r.step(func() {
			probe.Provoke(ctx, r.Machine, iface.Name, targets, neighbourPatience, func(n evidence.Neighbour) {
				if ctx.Err() == nil {
					record(n)
				}
			})
		}, kind)
		return
	}
	for _, a := range targets {
		from := sender
		if a.Is6() {
			from = sourceFor(iface, a)
		}
		r.step(func() {
			if n := r.segment.Resolve(ctx, from, a); ctx.Err() == nil || n.Came() {
				record(n)
			}
		}, kind)
	}
}

// sourceFor is an own IPv6 address from which to solicit: one of the same scope.
func sourceFor(iface *endpoint.Interface, to netip.Addr) netip.Addr {
	for _, a := range iface.Addresses {
		own := a.Prefix.Addr()
		if own.Is6() && own.IsLinkLocalUnicast() == to.IsLinkLocalUnicast() && !a.Tentative && !a.Duplicate {
			return own
		}
	}
	return netip.Addr{}
}

// gatewayEcho asks the gateway for an echo: three times, since the first may be lost while its hardware address is being asked for. It
// reports whether one came.
func (r *run) gatewayEcho(ctx context.Context, gw netip.Addr) bool {
	if gw.IsLinkLocalUnicast() && gw.Is6() {
		gw = gw.WithZone(r.iface)
	}
	for _, wait := range []time.Duration{0, 300 * time.Millisecond, 600 * time.Millisecond} {
		patience := max(wait, r.silenceTime())
		ask, cancel := context.WithTimeout(ctx, patience)
		e, _ := r.echoer.AskEcho(ask, probe.EchoQuestion{To: gw, Size: 24})
		cancel()
		if ctx.Err() != nil && !e.Came() {
			return false
		}
		e.Asked = gw.WithZone("")
		r.observe(e)
		if e.Came() {
			return e.Outcome == evidence.Answered
		}
	}
	return false
}

func (r *run) conflict(ctx context.Context, a netip.Addr) {
	wait, stop := r.untilSilence(ctx)
	defer stop()
	if c := r.segment.Conflict(wait, a); ctx.Err() == nil || c.Came() {
		r.observe(c)
	}
}

// conflict6 asks the segment, from the link-local address, who has an IPv6 address of this machine: this machine itself does not hear the
// question, so that whoever answers is another one (RFC 4861 §7.2.4).
func (r *run) conflict6(ctx context.Context, own, a netip.Addr) {
	wait, stop := r.untilSilence(ctx)
	defer stop()
	began := time.Now()
	n := r.segment.Resolve(wait, own, a)
	c := evidence.Conflict{Address: a, Reply: evidence.Reply{Outcome: evidence.Silent, Waited: time.Since(began)}}
	if n.Outcome == evidence.Answered && len(n.Hardware) > 0 {
		c.Reply, c.Hardware = n.Reply, n.Hardware[0]
	}
	if ctx.Err() == nil || c.Came() {
		r.observe(c)
	}
}

// untilSilence is a context that ends when the wait for silence is over.
func (r *run) untilSilence(ctx context.Context) (wait context.Context, stop func()) {
	wait, cancel := context.WithCancel(ctx)
	r.wg.Go(func() {
		select {
		case <-r.silence:
			cancel()
		case <-wait.Done():
		}
	})
	return wait, cancel
}

// slowest is the slowest answer that came from the segment itself, 0 while none has.
func (r *run) slowest() (slowest time.Duration) {
	r.look(func(s *evidence.Set) {
		for _, n := range s.Neighbours {
			if n.Outcome == evidence.Answered && n.Asks <= 1 && len(n.Hardware) <= 1 {
				slowest = max(slowest, n.RTT)
			}
		}
	})
	return slowest
}

func (r *run) silenceTime() time.Duration { return max(silenceFloor, 4*r.slowest()) }

// waitForSilence ends the wait for answers whose absence is good news.
func (r *run) waitForSilence(ctx context.Context) {
	defer close(r.silence)
	began := time.Now()
	for {
		heard := r.slowest() > 0
		until := silenceCeiling
		if heard || r.segment == nil {
			until = r.silenceTime()
		}
		left := until - time.Since(began)
		if left <= 0 || ctx.Err() != nil {
			break
		}
		probe.Sleep(ctx, min(left, 10*time.Millisecond))
	}
	r.askedTwice()
	r.markQuiet()
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

// markQuiet notes hops that have kept silent so far though later ones answered: their patience is not over, but enough has passed to tell.
func (r *run) markQuiet() {
	var quiet []evidence.Observation
	r.look(func(s *evidence.Set) {
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
	})
	r.observe(quiet...)
}

// discover asks DHCP servers. One discover is enough on a machine that has an address and hears an offer; one that depends on it asks three
// times, and waits longer for a server that is seen to test the address.
func (r *run) discover(ctx context.Context, iface *endpoint.Interface) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	var offered, testing atomic.Bool
	began := time.Now()
	r.wg.Go(func() {
		<-r.silence
		for ctx.Err() == nil {
			limit := discoverPatience
			if testing.Load() {
				limit = discoverTesting
			}
			// After the first offer, others get as long as the first took, and the wait for silence.
			if time.Since(began) >= limit || offered.Load() && time.Since(began) >= 2*r.firstOffer()+r.silenceTime() {
				cancel()
			}
			probe.Sleep(ctx, 10*time.Millisecond)
		}
	})
	record := func(d evidence.Discovery) {
		if len(d.Offers) > 0 {
			offered.Store(true)
			r.traceResolvers(ctx, d.Offers[len(d.Offers)-1].Resolvers)
		}
		r.observe(d)
	}
	q := probe.DHCPQuestion{Interface: iface.Name, At: discoverAt, Changed: record}
	if own := iface.Usable(false); len(own) > 0 {
		q.Held = own[0].Prefix.Addr()
	} else if len(iface.Usable(true)) == 0 { // one that has IPv6 may do without
		q.Testing = func() { testing.Store(true) }
	}
	record(r.segment.Discover(ctx, q))
}

func (r *run) firstOffer() (first time.Duration) {
	r.look(func(s *evidence.Set) {
		if s.Discovery != nil && len(s.Discovery.Offers) > 0 {
			first = s.Discovery.Offers[0].RTT
		}
	})
	return first
}

// callAll asks all IPv6 machines of the segment at once, unless the gateway has shown that it is there: a prefix of IPv6 is too large to be
// gone through (RFC 7707).
func (r *run) callAll(ctx context.Context, iface *endpoint.Interface) {
	if r.segment == nil || facts.New(r.snapshot()).Alive == facts.Yes {
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

// sweep asks everybody on the segment, unless the gateway shows soon that it is there and passes traffic on.
func (r *run) sweep(ctx context.Context, iface *endpoint.Interface, sender netip.Addr) {
	own := iface.Usable(false)
	if !probe.Sleep(ctx, sweepAfter) {
		return
	}
	if len(own) == 0 {
		r.callAll(ctx, iface)
		return
	}
	p := facts.New(r.snapshot())
	if p.Alive == facts.Yes {
		if !p.Gateway.Is4() || p.Forwards == facts.Yes || r.segment == nil || !probe.Sleep(ctx, doubtAfter-sweepAfter) {
			return
		}
		if p = facts.New(r.snapshot()); !p.GatewayDoubtful() {
			return
		}
	}
	prefix := own[0].Prefix
	// First where routers stand: those that are named, and the ends of the prefix. Then nearest first.
	var targets []netip.Addr
	for _, a := range slices.Concat(p.RoutersNamed(), []netip.Addr{prefix.Masked().Addr().Next(), subnet.Last(prefix).Prev()},
		slices.Collect(subnet.Around(prefix, prefix.Addr(), sweepMost))) {
		if subnet.Usable(prefix, a) && a != prefix.Addr() && a != p.Gateway && !slices.Contains(targets, a) {
			targets = append(targets, a)
		}
	}
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
	if p.GatewayFromDHCP() {
		enough = func() (found bool) {
			r.look(func(s *evidence.Set) {
				found = slices.ContainsFunc(s.Handoffs, func(h evidence.Handoff) bool { return h.HopLimit == 1 && h.Passed() })
			})
			return found
		}
	}
	swept := 0
	if r.segment != nil {
		swept = r.segment.Sweep(ctx, sender, targets, sweepRate, sweepPatience, done, enough)
	} else {
		probe.Provoke(ctx, r.Machine, iface.Name, targets, neighbourPatience/2, done)
		swept = len(targets)
	}
	if ctx.Err() == nil {
		r.observe(evidence.Sweep{Asked: swept, Done: true})
	}
}
