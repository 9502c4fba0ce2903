package probe

import (
	"context"
	"net/netip"
	"sync"
	"time"

	"passepartout/internal/core/evidence"
	"passepartout/internal/machine"
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

// TraceQuestion is one trace.
type TraceQuestion struct {
	To       netip.AddrPort // the port counts for TCP only
	Method   TraceMethod
	First    int // hop limits, both included
	Last     int
	Patience time.Duration // for each packet
	Again    time.Duration // when the silent ones are asked once more after the start; 0: never
}

// Trace sends one packet for each hop limit, all at once, and those that stayed silent once more. report is called for every packet that
// ended, from many goroutines. It returns when all have.
//
// The times follow how routers speak: most let about six ICMP errors to one address through and then one a second, so that a second
// question to the silent ones must wait.
func Trace(ctx context.Context, e *Echoer, q TraceQuestion, report func(evidence.Hop)) {
	var mu sync.Mutex
	answered := map[int]bool{}
	destination := q.Last + 1 // the least hop limit with which the destination itself was reached
	round := func(try int, hops []int) {
		var wg sync.WaitGroup
		for _, hop := range hops {
			wg.Go(func() {
				r := traceOne(ctx, e, q, hop)
				if ctx.Err() != nil && !r.Came() {
					return // cut short: says nothing
				}
				mu.Lock()
				if r.Came() {
					answered[hop] = true
				}
				if (r.Outcome == evidence.Answered || r.Outcome == evidence.Refused) && hop < destination {
					destination = hop
				}
				mu.Unlock()
				report(evidence.Hop{To: q.To.Addr(), Method: string(q.Method), HopLimit: hop, Try: try, Reply: r})
			})
		}
		wg.Wait()
	}
	began := time.Now()
	var hops []int
	for hop := q.First; hop <= q.Last; hop++ {
		hops = append(hops, hop)
	}
	round(1, hops)
	var silent []int
	farthest := 0
	for hop := range answered {
		farthest = max(farthest, hop)
	}
	// Beyond a few hops after the last that spoke, asking again teaches nothing.
	for _, hop := range hops {
		if !answered[hop] && hop < destination && hop <= farthest+askBeyond {
			silent = append(silent, hop)
		}
	}
	if q.Again == 0 || len(silent) == 0 || !Sleep(ctx, q.Again-time.Since(began)) {
		return
	}
	round(2, silent)
}

func traceOne(ctx context.Context, e *Echoer, q TraceQuestion, hop int) evidence.Reply {
	ctx, cancel := context.WithTimeout(ctx, q.Patience)
	defer cancel()
	switch q.Method {
	case TraceTCP:
		conn, r := e.m.Connect(ctx, machine.ConnectConfig{To: q.To, HopLimit: hop, Interface: e.iface})
		if conn != nil {
			conn.Close()
		}
		return r
	case TraceUDP:
		return AskDatagram(ctx, e.m, DatagramQuestion{To: netip.AddrPortFrom(q.To.Addr(), unusedPort+uint16(hop)), HopLimit: hop, Interface: e.iface, Payload: payload(24)})
	}
	r, _, _ := e.Ask(ctx, EchoQuestion{To: q.To.Addr(), HopLimit: hop, Size: 24})
	return r
}
