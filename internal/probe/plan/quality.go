package plan

import (
	"context"
	"net/netip"
	"slices"
	"sync"
	"time"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/facts"
	"passepartout/internal/core/path"
	"passepartout/internal/guard"
	"passepartout/internal/probe"
)

// The small probes by which loss and delay are told: twenty within 40 ms, and forty more where any was lost.
const (
	burstCount, burstMore = 20, 40
	burstApart            = 2 * time.Millisecond
	// Where echo replies are missing, the target's own service is asked: so many connections, each closed at once.
	connections, connectionsApart = 40, 12 * time.Millisecond
	stationApart                  = 10 * time.Millisecond // routers on the way are asked more gently
	// While nothing is known of an address, a packet to it is given this long; then by the round trips seen.
	sizeUnknown = 400 * time.Millisecond
	sizeLeast   = 100 * time.Millisecond
	sizeMost    = 65000 // beyond it, no probe fits

	mostServersMeasured = 2
)

var qualitySteps = []*step{
	gatewayLoss,
	{brings: kinds(evidence.PacketSize), of: gateways, ask: (*run).gatewaySize},
	targetLoss,
	{of: measured, ask: (*run).count}, // where none was lost nobody waits for it
	targetSize,
	{brings: kinds(evidence.LossProbes), after: kinds(evidence.ServiceConnect), of: doubtedByEcho, ask: (*run).targetByConnections},
	{brings: kinds(evidence.LossProbes), after: kinds(evidence.ServiceConnect, evidence.Handoffs), of: sharedServices,
		needless: func(m *moment) bool { return m.Iface == nil || !m.Endpoint.SeveralDefaults() }, ask: (*run).targetByConnections},
	{brings: kinds(evidence.LossProbes), of: once, needless: withEcho, ask: (*run).namesQuality},
}

var gatewayLoss = &step{brings: kinds(evidence.LossProbes), of: gateways, needless: noEcho, ask: (*run).gatewayQuality}

var targetLoss = &step{brings: kinds(evidence.LossProbes), after: kinds(evidence.RouteLookup), of: forwarded, needless: noEcho,
	ask: (*run).targetQuality}

var targetSize = &step{brings: kinds(evidence.PacketSize), after: kinds(evidence.RouteLookup), of: forwarded, ask: (*run).targetSize}

func noEcho(m *moment) bool { return !m.run.allowed.Echo.Granted }

func withEcho(m *moment) bool { return m.run.allowed.Echo.Granted }

// forwarded are the addresses of the target that this machine does not hold itself, each with the interface through which it is reached.
func forwarded(m *moment) (out []subject) {
	for _, route := range m.ways() {
		if route.Verdict == endpoint.Forward {
			out = append(out, subject{addr: route.To})
		}
	}
	return out
}

// measured are those to which the probes have come to their end.
func measured(m *moment) (out []subject) {
	for _, s := range gateways(m) {
		if m.ended(gatewayLoss, s) {
			out = append(out, s)
		}
	}
	for _, s := range forwarded(m) {
		if m.ended(targetLoss, s) {
			out = append(out, s)
		}
	}
	return out
}

// doubtedByEcho are the services of the target that answer, while echo replies are missing somewhere: whether that is a loss or a ration,
// connections tell.
func doubtedByEcho(m *moment) (out []subject) {
	if !slices.ContainsFunc(m.Bursts, func(b evidence.Burst) bool { return b.Method == "icmp" && facts.Short(b) }) {
		return nil
	}
	for _, s := range forwarded(m) {
		for _, c := range m.Connects {
			came := (c.Outcome == evidence.Answered || c.Outcome == evidence.Refused) && c.From == s.addr
			// on a way that loses, the one attempt may have been lost: who answers some echo is there
			_, echoes := m.Burst(s.addr)
			if c.To.Addr() == s.addr && (came || c.Outcome == evidence.Silent && echoes) {
				out = append(out, subject{addr: s.addr, port: c.To.Port()})
				break
			}
		}
	}
	return out
}

// sharedServices are the services of the target to which several routers share the traffic, where one of them leads nowhere or none could
// be asked: how many connections come about tells whether they are chosen for each.
func sharedServices(m *moment) (out []subject) {
	for _, c := range m.Connects {
		a := c.To.Addr()
		routers := m.Routers(a)
		if !facts.Shared(routers) || !slices.Contains(m.Addresses, a) || c.Outcome == evidence.NotKnown {
			continue
		}
		lost, leads := false, false
		for _, r := range routers {
			asked, through := m.HandedTo(r.Address, a)
			lost, leads = lost || asked && !through, leads || through
		}
		if noFrames(m) || lost && leads {
			out = append(out, subject{addr: a, port: c.To.Port()})
		}
	}
	return out
}

// targetByConnections asks twice where few echo replies are missing, and no connection was lost at first: of a ration little is left, so
// that it may be a loss all the same.
func (r *run) targetByConnections(ctx context.Context, s subject) {
	q := probe.BurstQuestion{To: s.addr, Count: connections, Apart: connectionsApart, Grace: grace}
	b, ok := probe.ConnectBurst(ctx, r.Machine, s.port, q)
	if !ok || b.Received == 0 {
		return
	}
	echo, known := facts.New(r.snapshot()).Burst(s.addr)
	if b.Received == b.Sent && known && 2*echo.Received > echo.Sent {
		if again, ok := probe.ConnectBurst(ctx, r.Machine, s.port, q); ok {
			b.Sent, b.Received = b.Sent+again.Sent, b.Received+again.Received
		}
	}
	r.observe(b)
}

// echoless is closed when an address is known not to answer echo.
func (r *run) echoless(asked *step, a netip.Addr) <-chan struct{} {
	return r.onceThat(func(m *moment) bool { return m.ended(asked, subject{addr: a}) && !echoes(m.Set, a) })
}

// grace is how long missing answers are waited for after the last probe. A healthy site misses none and does not wait; a stall of this
// machine or a queue on the way must not pass for a loss. The slowest of the answers may have waited a second for a hardware address, the
// others with it.
func grace(slowest time.Duration) time.Duration { return slowest*5/4 + 300*time.Millisecond }

// count reads how the interface's counters have grown since the run began.
func (r *run) count(ctx context.Context, _ subject) {
	now, err := r.Machine.Interfaces(ctx)
	was, ok := r.endpoint.Interface(r.iface)
	if err != nil || !ok {
		return
	}
	for _, i := range now {
		if i.Name == r.iface {
			c := evidence.InterfaceCount{Interface: i.Name, Over: time.Since(r.began), Before: was.Counters, After: i.Counters}
			r.observe(c)
		}
	}
}

// burst measures loss and delay to an address: twenty probes, and forty more where any was lost. over is closed when it is known not to
// answer echo. It is false when nothing could be counted.
func (r *run) burst(ctx context.Context, a netip.Addr, over <-chan struct{}) (evidence.Burst, bool) {
	q := probe.BurstQuestion{To: a, Count: burstCount, Apart: burstApart, Enough: over, Grace: grace}
	b, ok := probe.EchoBurst(ctx, r.echoer, q)
	if !ok || b.Received == 0 && !echoes(r.snapshot(), a) {
		return b, false // it does not answer, or is not there: that is told elsewhere
	}
	if b.Received == 0 { // it has answered before: connections tell whether that was the last of a ration
		r.observe(b)
		return b, false
	}
	if b.Received < b.Sent { // what the interface itself has lost is known before anybody else is blamed for it
		r.count(ctx, subject{})
	}
	told := b.Received == b.Sent || facts.Lossy(b) // at once, for those who wait for it; one or two that are missing say nothing yet
	if told {
		r.observe(b)
	}
	if b.Received < b.Sent {
		q.Count = burstMore
		more, ok := probe.EchoBurst(ctx, r.echoer, q)
		if !ok {
			return b, false
		}
		if told {
			r.observe(more)
		}
		if more.Received >= b.Received {
			b.Median = more.Median
		}
		b.Sent, b.Received = b.Sent+more.Sent, b.Received+more.Received
	}
	if !told {
		r.observe(b)
	}
	return b, true
}

func suspicious(b evidence.Burst) bool {
	return path.Lossy(b.Sent-b.Received, b.Sent) || b.Median > path.StepBlamed
}

// gatewayQuality asks a second neighbour as well when the gateway loses: one that does so alone keeps to a ration.
func (r *run) gatewayQuality(ctx context.Context, s subject) {
	gw := s.addr
	b, ok := r.burst(ctx, gw, r.echoless(gatewayEcho, gw))
	if b.Received < b.Sent {
		defer r.count(ctx, s)
	}
	if !ok || !suspicious(b) {
		return
	}
	// Once more, since the first may have waited for the gateway's hardware address.
	if a, found := r.otherOnLink(gw); found {
		r.together(ctx, gw, a)
		return
	}
	r.together(ctx, gw)
}

// together asks several at the same time.
func (r *run) together(ctx context.Context, addrs ...netip.Addr) {
	var wg sync.WaitGroup
	for _, a := range addrs {
		if r.endpoint.Owns(a) {
			continue
		}
		wg.Go(func() {
			defer guard.Goroutine()
			q := probe.BurstQuestion{To: a, Count: burstMore, Apart: stationApart, Grace: grace}
			if b, ok := probe.EchoBurst(ctx, r.echoer, q); ok && b.Received > 0 {
				r.observe(b)
			}
		})
	}
	wg.Wait()
}

// otherOnLink is a machine on the segment that is known to be there, besides the gateway.
func (r *run) otherOnLink(gw netip.Addr) (netip.Addr, bool) {
	i, ok := r.endpoint.Interface(r.iface)
	for _, a := range r.endpoint.AskedResolvers() {
		if ok && i.OnLink(a) && a != gw && !r.endpoint.Owns(a) {
			return a, true
		}
	}
	return netip.Addr{}, false
}

// targetQuality asks once more when something is wrong, together with the gateway and the stations on the way: what comes in bursts shows
// alike only to those who are asked at the same time. Where does it begin?
func (r *run) targetQuality(ctx context.Context, s subject) {
	a := s.addr
	b, ok := r.burst(ctx, a, r.echoless(targetEcho, a))
	if b.Received < b.Sent {
		defer r.count(ctx, s)
	}
	if !ok || !suspicious(b) {
		return
	}
	began := time.Since(r.started)
	r.waitUntil(ctx, func(m *moment) bool {
		t, ok := m.TrailTo(a)
		return ok && t.Reached || len(stationsOf(t)) > 2 && m.past(began+tracePatience) || m.past(began+traceAgain+tracePatience)
	})
	trail, _ := r.snapshot().TrailTo(a)
	stations := stationsOf(trail)
	gw, _ := r.endpoint.Gateway(r.iface, a.Is6())
	other, _ := r.otherOnLink(gw)
	for _, st := range []netip.Addr{gw, other} {
		if st.IsValid() && !slices.Contains(stations, st) {
			stations = append(stations, st)
		}
	}
	r.together(ctx, append(stations, a)...)
}

// stationsOf are the routers on the way that have answered.
func stationsOf(t evidence.Trail) (out []netip.Addr) {
	for _, st := range t.Stations {
		if st.From.IsValid() && st.From != t.To && !slices.Contains(out, st.From) {
			out = append(out, st.From)
		}
	}
	return out
}

// namesQuality measures by questions to name servers, where echo is withheld.
func (r *run) namesQuality(ctx context.Context, _ subject) {
	servers := r.endpoint.AskedResolvers()
	servers = servers[:min(len(servers), mostServersMeasured)]
	round := func(count int, apart time.Duration) (bad bool) {
		var mu sync.Mutex
		var wg sync.WaitGroup
		for _, a := range servers {
			wg.Go(func() {
				defer guard.Goroutine()
				b, ok := probe.NameBurst(ctx, r.Machine, probe.BurstQuestion{To: a, Count: count, Apart: apart, Grace: grace})
				if !ok || b.Received == 0 {
					return
				}
				r.observe(b)
				mu.Lock()
				bad = bad || suspicious(b) || b.Received < b.Sent
				mu.Unlock()
			})
		}
		wg.Wait()
		return bad
	}
	defer r.count(ctx, subject{})
	if round(burstCount, burstApart) {
		round(burstMore, stationApart) // all at the same time once more, for a loss that comes in bursts
	}
}

// sizing marks that a packet of full size is on its way to an address.
const sizing = "a packet of full size is on its way"

func (r *run) gatewaySize(ctx context.Context, s subject) {
	r.size(ctx, s.addr, r.iface, r.echoless(gatewayEcho, s.addr), nil)
}

func (r *run) targetSize(ctx context.Context, s subject) {
	if route, known := facts.New(r.snapshot()).RouteTo(s.addr); known {
		r.size(ctx, s.addr, route.Interface, r.echoless(targetEcho, s.addr), func() { r.mark(mark{sizing, s.addr}) })
	}
}

// size looks for the largest packet that reaches an address by way of an interface. begun, if it is set, is called when the first one is on
// its way.
func (r *run) size(ctx context.Context, a netip.Addr, iface string, over <-chan struct{}, begun func()) {
	i, ok := r.endpoint.Interface(iface)
	if !ok || i.MTU <= 0 || i.MTU > sizeMost || i.Kind == endpoint.LoopbackKind {
		return
	}
	patience := func() time.Duration {
		known := time.Duration(0)
		s := r.snapshot()
		for _, e := range s.Echoes {
			if e.Asked == a.WithZone("") && e.Outcome == evidence.Answered {
				known = max(known, e.RTT)
			}
		}
		for _, b := range s.Bursts {
			if b.To == a.WithZone("") {
				known = max(known, b.Median)
			}
		}
		if known == 0 {
			return sizeUnknown
		}
		return max(2*known+echoGrace, sizeLeast)
	}
	speaks := func() bool {
		t, ok := facts.New(r.snapshot()).TrailTo(a.WithZone(""))
		return ok && t.Reached
	}
	if s, ok := probe.Size(ctx, r.echoer, probe.SizeQuestion{To: a, Full: i.MTU, Patience: patience, Enough: over, Speaks: speaks,
		Begun: begun}); ok {
		r.observe(s)
	}
}
