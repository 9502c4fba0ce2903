package plan

import (
	"context"
	"net"
	"net/netip"
	"slices"
	"sync"
	"time"

	"passepartout/internal/core/evidence"
	"passepartout/internal/machine"
)

// awaiting is a machine that remembers which answers are waited for: what comes when nobody waits any more is late, and not swallowed.
type awaiting struct {
	machine.Machine
	mu   sync.Mutex
	open map[evidence.Arrival]int // questions under way, by where their answers come from
}

// An answer may take some time from the port to the program that waits for it: so many looks, so far apart. A filter holds it for good.
const (
	handingLooks = 3
	handingLook  = 50 * time.Millisecond
)

func (a *awaiting) begin(proto string, from netip.AddrPort) (end func()) {
	key := evidence.Arrival{From: from.Addr().WithZone("").Unmap(), Proto: proto, Port: from.Port()}
	a.mu.Lock()
	defer a.mu.Unlock()
	a.open[key]++
	return sync.OnceFunc(func() {
		a.mu.Lock()
		defer a.mu.Unlock()
		a.open[key]--
	})
}

// waits reports whether a question to there is under way.
func (a *awaiting) waits(x evidence.Arrival) bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.open[x] > 0
}

func (a *awaiting) Connect(ctx context.Context, c machine.ConnectConfig) (net.Conn, evidence.Reply) {
	defer a.begin("tcp", c.To)()
	return a.Machine.Connect(ctx, c)
}

func (a *awaiting) OpenDatagram(c machine.DatagramConfig) (machine.DatagramSocket, error) {
	s, err := a.Machine.OpenDatagram(c)
	if err != nil {
		return nil, err
	}
	return &awaitingSocket{s, a.begin("udp", c.To)}, nil
}

type awaitingSocket struct {
	machine.DatagramSocket
	end func()
}

func (s *awaitingSocket) Close() error {
	s.end()
	return s.DatagramSocket.Close()
}

// arrived takes note of an answer that was seen at the port, if the question is still waited on when the program must have had it.
func (r *run) arrived(ctx context.Context, x evidence.Arrival) {
	if r.awaited.waits(x) {
		r.lookFor(ctx, x, handingLooks)
	}
}

// lookFor looks so many times more whether an answer has come to the program. A look that is late begins anew: this machine did not get its
// turn, and neither did whoever waits.
func (r *run) lookFor(ctx context.Context, x evidence.Arrival, looks int) {
	due := time.Now().Add(handingLook)
	time.AfterFunc(handingLook, func() {
		switch {
		case ctx.Err() != nil || !r.awaited.waits(x):
		case time.Since(due) > handingLook/2:
			r.lookFor(ctx, x, handingLooks)
		case looks > 1:
			r.lookFor(ctx, x, looks-1)
		default:
			r.observeIf(func(s *evidence.Set) bool { return len(s.Arrivals) < mostArrivals && !slices.Contains(s.Arrivals, x) }, x)
		}
	})
}
