package probe

import (
	"context"
	"net/netip"
	"sync"
	"time"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/rtt"
)

// SeriesQuestion is a run of echo probes to one address.
type SeriesQuestion struct {
	To       netip.Addr
	Count    int
	Interval time.Duration
	Size     int // payload octets
}

// Probe is one probe of a series and what became of it.
type Probe struct {
	Seq    int
	SentAt time.Time
	Late   bool // the answer came after its time
	Again  bool // the answer came a second time
	evidence.Echo
}

// The bounds of the time-out, which follows the round trips seen: a floor for links that stall now and then, a ceiling for patience.
const (
	echoFloor   = 300 * time.Millisecond
	echoCeiling = 2 * time.Second
)

// Series sends probes at a steady interval, whether or not earlier ones were answered, and reports each as it ends, from one goroutine at a
// time. It returns the run in order of sending. ctx ends it early, and what is under way counts as not sent.
func Series(ctx context.Context, e *Echoer, q SeriesQuestion, report func(Probe)) []rtt.Sample {
	var mu sync.Mutex
	var estimate rtt.Estimator
	samples := make([]rtt.Sample, 0, q.Count)
	seqs := map[uint16]int{}
	e.Stray = func(_ netip.Addr, seq uint16, r evidence.Reply, duplicate bool) {
		mu.Lock()
		defer mu.Unlock()
		if n, ok := seqs[seq]; ok {
			report(Probe{Seq: n, Late: !duplicate, Again: duplicate, SentAt: time.Now().Add(-r.RTT), Echo: evidence.Echo{Asked: q.To, Method: "icmp", Size: q.Size, Reply: r}})
		}
	}
	tick := time.NewTicker(q.Interval)
	defer tick.Stop()
	var wg sync.WaitGroup
	for n := range q.Count {
		if n > 0 {
			select {
			case <-tick.C:
			case <-ctx.Done():
			}
		}
		if ctx.Err() != nil {
			break
		}
		mu.Lock()
		patience := estimate.Timeout(echoFloor, echoCeiling)
		samples = append(samples, rtt.Sample{})
		mu.Unlock()
		wg.Go(func() {
			ask, cancel := context.WithTimeout(ctx, patience)
			defer cancel()
			var p Probe
			if e.m.Permissions().Echo.Granted {
				r, sent, seq := e.Ask(ask, EchoQuestion{To: q.To, Size: q.Size})
				p = Probe{Seq: n, SentAt: sent, Echo: evidence.Echo{Asked: q.To, Method: "icmp", Size: q.Size, Reply: r}}
				mu.Lock()
				seqs[seq] = n
				mu.Unlock()
			} else {
				p.Echo, p.SentAt = e.AskEcho(ask, EchoQuestion{To: q.To, Size: q.Size})
				p.Seq = n
			}
			if ctx.Err() != nil && !p.Came() {
				return
			}
			mu.Lock()
			defer mu.Unlock()
			if p.Outcome == evidence.Answered {
				estimate.Add(p.RTT)
				samples[n] = rtt.Sample{Answered: true, RTT: p.RTT}
			}
			report(p)
		})
	}
	wg.Wait()
	return samples
}
