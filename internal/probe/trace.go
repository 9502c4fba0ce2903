package probe

import (
	"context"
	"net/netip"
	"sync"
	"time"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/path"
	"passepartout/internal/guard"
	"passepartout/internal/machine"
	"passepartout/internal/nap"
)

// TraceMethod is the sort of packet that a trace sends.
type TraceMethod string

// The methods. TCP goes to the service's own port, and so passes where the service passes.
const (
	TraceICMP TraceMethod = "icmp"
	TraceUDP  TraceMethod = "udp"
	TraceTCP  TraceMethod = "tcp"
)

// askBeyond is how many stations after the last that spoke are asked again.
const askBeyond = 4

// TraceQuestion is one trace, or a path to be watched.
type TraceQuestion struct {
	To       netip.AddrPort // the port counts for TCP only
	Method   TraceMethod
	First    int // hop limits, both included
	Last     int
	Patience time.Duration // for each packet
	Again    time.Duration // when the silent ones are asked once more after the start of the first round; 0: never
	Flows    int           // how many flows are sent side by side; 0: one
	Rounds   int           // how many rounds; 0: one, -1: until ctx ends
	Interval time.Duration // between rounds; 0: a second
}

// tracer is one trace under way.
type tracer struct {
	TraceQuestion
	flows  []hopAsker
	report func(path.Seen)
	began  time.Time

	mu          sync.Mutex
	answered    map[[2]int]bool // hop limit and flow, in any round
	farthest    int             // the greatest hop limit that brought an answer
	destination int             // the least hop limit with which the destination itself was reached
	expired     map[int]int     // by flow, the greatest hop limit that ran out at a router
	settling    map[int]bool    // the flows whose distance is being asked
}

// Trace sends one packet for each hop limit, all at once, and those that stayed silent once more; then round after round, as far as the
// destination. report is called for every packet that ended, from many goroutines. It returns when all have. apart tells that every packet
// was a flow of its own, for want of permission.
//
// The times follow how routers speak: most let about six ICMP errors to one address through and then one a second, so that a second
// question to the silent ones must wait, and rounds are no closer than a second.
func Trace(ctx context.Context, e *Echoer, q TraceQuestion, report func(path.Seen)) (apart bool, err error) {
	if q.Interval == 0 {
		q.Interval = time.Second
	}
	t := &tracer{TraceQuestion: q, report: report, began: time.Now(), answered: map[[2]int]bool{}, destination: q.Last + 1,
		expired: map[int]int{}, settling: map[int]bool{}}
	for n := range max(q.Flows, 1) {
		f, err := openHops(e, q.To, q.Method, n)
		if err != nil {
			return false, err
		}
		defer f.close()
		t.flows = append(t.flows, f)
		apart = apart || f.apart
	}
	var under sync.WaitGroup
	defer under.Wait()
	t.round(ctx, &under, 0, q.Last, nil)
	if q.Again > 0 {
		under.Wait()
		if silent := t.silent(); len(silent) > 0 && Sleep(ctx, q.Again-time.Since(t.began)) {
			t.round(ctx, &under, 0, q.Last, silent)
		}
		under.Wait()
	}
	for n := 1; (q.Rounds < 0 || n < q.Rounds) && Sleep(ctx, time.Duration(n)*q.Interval-time.Since(t.began)); n++ {
		t.mu.Lock()
		last := min(t.destination, t.farthest+askBeyond, q.Last)
		t.mu.Unlock()
		t.round(ctx, &under, n, last, nil)
	}
	return apart, nil
}

// round asks every hop limit up to last, or only those given.
func (t *tracer) round(ctx context.Context, under *sync.WaitGroup, n, last int, only map[[2]int]bool) {
	at := time.Since(t.began)
	ctx, done := context.WithCancel(ctx) // ends when all that matters has been answered
	var own sync.WaitGroup
	defer under.Go(func() {
		defer guard.Goroutine()
		own.Wait()
		done()
	})
	answered := map[[2]int]bool{} // in this round
	for hop := t.First; hop <= last; hop++ {
		for i, f := range t.flows {
			key := [2]int{hop, i}
			if only != nil && !only[key] {
				continue
			}
			wait := f.send(hop) // in order: the first packet to arrive at the destination is the one with the least hop limit
			own.Go(func() {
				defer guard.Goroutine()
				ask, cancel := nap.Within(ctx, t.Patience)
				defer cancel()
				r := wait(ask)
				if ctx.Err() != nil && !r.Came() {
					return // cut short: says nothing
				}
				if complete, settle := t.take(key, r, last, answered); complete {
					defer done()
				} else if settle {
					own.Go(func() {
						defer guard.Goroutine()
						if t.settle(ctx, f, i, 2*r.RTT, func(hop int, r evidence.Reply) {
							t.report(path.Seen{HopLimit: hop, Flow: i, Round: n, At: at, Reply: r})
						}, last, answered) {
							done()
						}
					})
				}
				if !r.Came() && t.onceAFlow(key, answered) {
					return // its packet was one of several of a flow that reached the destination, which answers the first
				}
				t.report(path.Seen{HopLimit: hop, Flow: i, Round: n, At: at, Reply: r})
			})
		}
	}
}

// take notes an answer, or silence, and reports whether all that matters has been answered, and whether the distance of the destination has
// to be asked.
func (t *tracer) take(key [2]int, r evidence.Reply, last int, answered map[[2]int]bool) (complete, settle bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	hop, i := key[0], key[1]
	if r.Came() {
		t.answered[key], answered[key] = true, true
		t.farthest = max(t.farthest, hop)
	}
	switch r.Outcome {
	case evidence.Expired:
		t.expired[i] = max(t.expired[i], hop)
	case evidence.Answered, evidence.Refused:
		t.destination = min(t.destination, hop)
		settle = t.Method != TraceICMP && !t.settling[i]
		t.settling[i] = true
	}
	return t.complete(last, answered), settle
}

// onceAFlow reports whether a packet with a hop limit reached a destination that may answer one packet of a flow alone: to the others of a
// connection it keeps silent (RFC 9293 §3.10.7.4), and port unreachable is rationed (RFC 1812 §4.3.2.8). Who was asked again meanwhile, to
// find out how far away it is, and answered then, is not silent either.
func (t *tracer) onceAFlow(key [2]int, answered map[[2]int]bool) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.Method != TraceICMP && (key[0] >= t.destination || answered[key])
}

// settle asks how far away a destination really is that has answered a flow: packets overtake each other on the way, and the one that it
// answered need not be the one with the least hop limit. Those with lower ones are asked again, one at a time. It reports whether all that
// matters has been answered with that.
func (t *tracer) settle(ctx context.Context, f hopAsker, flow int, grace time.Duration, report func(int, evidence.Reply), last int,
	answered map[[2]int]bool) (complete bool) {
	for Sleep(ctx, grace) { // what was sent together with the answered one may still come
		t.mu.Lock()
		hop := t.destination - 1
		over := hop <= t.expired[flow] || hop < t.First || answered[[2]int{hop, flow}]
		t.mu.Unlock()
		if over {
			return complete
		}
		ask, cancel := nap.Within(ctx, t.Patience)
		r := f.send(hop)(ask)
		cancel()
		if !r.Came() {
			return complete
		}
		complete, _ = t.take([2]int{hop, flow}, r, last, answered)
		report(hop, r)
		if r.Outcome == evidence.Expired {
			return complete
		}
		grace = 0
	}
	return complete
}

// complete reports whether the destination and every station before it have answered: whatever else is under way went beyond it.
func (t *tracer) complete(last int, answered map[[2]int]bool) bool {
	if t.destination > last {
		return false
	}
	for hop := t.First; hop <= t.destination; hop++ {
		for i := range t.flows {
			if !answered[[2]int{hop, i}] {
				return false
			}
		}
	}
	return true
}

// silent gives the questions that brought nothing. Beyond a few hops after the last that spoke, asking again teaches nothing.
func (t *tracer) silent() map[[2]int]bool {
	out := map[[2]int]bool{}
	t.mu.Lock()
	defer t.mu.Unlock()
	for hop := t.First; hop < t.destination && hop <= min(t.Last, t.farthest+askBeyond); hop++ {
		for i := range t.flows {
			if key := [2]int{hop, i}; !t.answered[key] {
				out[key] = true
			}
		}
	}
	return out
}

// UsualMethod is how a path is traced when nobody says otherwise: TCP to a service, else echo, else what anybody may send.
func UsualMethod(m machine.Machine, port uint16) TraceMethod {
	switch {
	case port != 0:
		return TraceTCP
	case m.Permissions().Echo.Granted:
		return TraceICMP
	}
	return TraceUDP
}
