package plan

import (
	"context"
	"net/netip"
	"slices"
	"sync"
	"time"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/path"
	"passepartout/internal/probe"
)

// The small probes by which loss and delay are told: twenty within 40 ms, and forty more where any was lost.
const (
	burstCount, burstMore = 20, 40
	burstApart            = 2 * time.Millisecond
	stationApart          = 10 * time.Millisecond // routers on the way are asked more gently
	// While nothing is known of an address, a packet to it is given this long; then by the round trips seen.
	sizeUnknown = 400 * time.Millisecond
	sizeLeast   = 100 * time.Millisecond
)

// grace is how long missing answers are waited for after the last probe. A healthy site misses none and does not wait; a stall of this
// machine or a queue on the way must not pass for a loss. The slowest of the answers may have waited a second for a hardware address, the
// others with it.
func grace(slowest time.Duration) time.Duration { return slowest*5/4 + 300*time.Millisecond }

// count reads how the port's counters have grown since the run began.
func (r *run) count(ctx context.Context) {
	now, err := r.Machine.Interfaces(ctx)
	was, ok := r.endpoint.Interface(r.iface)
	if err != nil || !ok {
		return
	}
	for _, i := range now {
		if i.Name == r.iface {
			c := evidence.PortCount{Interface: i.Name, Over: time.Since(r.began), Before: was.Counters, After: i.Counters}
			r.observe(c)
		}
	}
}

// countAfter reads the counters when probes have come to their end. Where none was lost nobody waits for it.
func (r *run) countAfter(ctx context.Context, b evidence.Burst) {
	if b.Received < b.Sent {
		r.count(ctx)
		return
	}
	r.wg.Go(func() { r.count(ctx) })
}

func (r *run) record(b evidence.Burst) {
	r.observe(b)
}

// burst measures loss and delay to an address: twenty probes, and forty more where any was lost. over is closed when it is known not to
// answer echo. It is false when nothing could be counted.
func (r *run) burst(ctx context.Context, a netip.Addr, over <-chan struct{}) (evidence.Burst, bool) {
	if !r.allowed.Echo.Granted {
		return evidence.Burst{}, false
	}
	q := probe.BurstQuestion{To: a, Count: burstCount, Apart: burstApart, Enough: over, Grace: grace}
	b, ok := probe.EchoBurst(ctx, r.echoer, q)
	if !ok || b.Received == 0 {
		return b, false // it does not answer, or is not there: that is told elsewhere
	}
	if b.Received < b.Sent {
		q.Count = burstMore
		more, ok := probe.EchoBurst(ctx, r.echoer, q)
		if !ok {
			return b, false
		}
		if more.Received >= b.Received {
			b.Median = more.Median
		}
		b.Sent, b.Received = b.Sent+more.Sent, b.Received+more.Received
	}
	r.record(b)
	return b, true
}

func suspicious(b evidence.Burst) bool {
	return path.Lossy(b.Sent-b.Received, b.Sent) || b.Median > path.StepBlamed
}

// gatewayQuality asks a second neighbour as well when the gateway loses: one that does so alone keeps to a ration.
func (r *run) gatewayQuality(ctx context.Context, gw netip.Addr, over <-chan struct{}) {
	b, ok := r.burst(ctx, gw, over)
	defer r.countAfter(ctx, b)
	if !ok || !suspicious(b) {
		return
	}
	// Once more, since the first may have waited for the gateway's hardware address.
	if a, found := r.neighbour(gw); found {
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
			q := probe.BurstQuestion{To: a, Count: burstMore, Apart: stationApart, Grace: grace}
			if b, ok := probe.EchoBurst(ctx, r.echoer, q); ok && b.Received > 0 {
				r.record(b)
			}
		})
	}
	wg.Wait()
}

// neighbour is a machine on the segment that is known to be there, besides the gateway.
func (r *run) neighbour(gw netip.Addr) (netip.Addr, bool) {
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
func (r *run) targetQuality(ctx context.Context, a netip.Addr, over <-chan struct{}) {
	b, ok := r.burst(ctx, a, over)
	defer r.countAfter(ctx, b)
	if !ok || !suspicious(b) {
		return
	}
	var stations []netip.Addr
	reached := false
	for began := time.Now(); time.Since(began) < traceAgain+tracePatience; {
		r.look(func(s *evidence.Set) {
			if t, ok := s.TrailTo(a); ok {
				stations, reached = stations[:0], t.Reached
				for _, st := range t.Stations {
					if st.From.IsValid() && st.From != a && !slices.Contains(stations, st.From) {
						stations = append(stations, st.From)
					}
				}
			}
		})
		if reached || len(stations) > 2 && time.Since(began) > tracePatience || !probe.Sleep(ctx, 50*time.Millisecond) {
			break
		}
	}
	gw, _ := r.endpoint.Gateway(r.iface, a.Is6())
	other, _ := r.neighbour(gw)
	for _, st := range []netip.Addr{gw, other} {
		if st.IsValid() && !slices.Contains(stations, st) {
			stations = append(stations, st)
		}
	}
	r.together(ctx, append(stations, a)...)
}

// namesQuality measures by questions to name servers, where echo is withheld.
func (r *run) namesQuality(ctx context.Context, servers []netip.Addr) {
	const most = 2
	if r.allowed.Echo.Granted {
		return
	}
	servers = servers[:min(len(servers), most)]
	round := func(count int, apart time.Duration) (bad bool) {
		var mu sync.Mutex
		var wg sync.WaitGroup
		for _, a := range servers {
			wg.Go(func() {
				b, ok := probe.NameBurst(ctx, r.Machine, probe.BurstQuestion{To: a, Count: count, Apart: apart, Grace: grace})
				if !ok || b.Received == 0 {
					return
				}
				r.record(b)
				mu.Lock()
				bad = bad || suspicious(b) || b.Received < b.Sent
				mu.Unlock()
			})
		}
		wg.Wait()
		return bad
	}
	r.step(func() {
		defer r.count(ctx)
		if round(burstCount, burstApart) {
			round(burstMore, stationApart) // all at the same time once more, for a loss that comes in bursts
		}
	}, evidence.LossProbes)
}

// size looks for the largest packet that reaches an address by way of an interface. begun, if it is set, is called when the first one is on
// its way.
func (r *run) size(ctx context.Context, a netip.Addr, iface string, over <-chan struct{}, begun func()) {
	i, ok := r.endpoint.Interface(iface)
	const mostEcho = 65000 // beyond it, no probe fits
	if !ok || i.MTU <= 0 || i.MTU > mostEcho || i.Kind == endpoint.LoopbackKind {
		return
	}
	patience := func() time.Duration {
		known := time.Duration(0)
		r.look(func(s *evidence.Set) {
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
		})
		if known == 0 {
			return sizeUnknown
		}
		return max(2*known+echoGrace, sizeLeast)
	}
	if s, ok := probe.Size(ctx, r.echoer, probe.SizeQuestion{To: a, Full: i.MTU, Patience: patience, Enough: over, Begun: begun}); ok {
		r.observe(s)
	}
}
