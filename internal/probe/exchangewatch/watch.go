// Package exchangewatch listens to an interface, and tells the exchanges that pass: who asks for an address, what is looked up, which
// connections are opened and end, what is said to be unreachable.
package exchangewatch

import (
	"context"
	"errors"
	"slices"
	"sync"
	"time"

	"passepartout/internal/capture"
	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/exchange"
	"passepartout/internal/guard"
	"passepartout/internal/machine"
)

// ErrNotHeard is given for a machine whose frames cannot be listened to.
var ErrNotHeard = errors.New("this machine's frames cannot be listened to")

// heard is what the kernel lets through, and how much of each frame: an answer of DNS stands in that, and a message of DHCP.
const (
	heard = "arp or icmp or dns or mdns or dhcp or lldp or connections"
	snap  = 1536
)

// most exchanges that are over are kept, the newest.
const most = 5000

// Seen is what has passed so far, in the order in which it began.
type Seen struct {
	Began   time.Time
	List    []exchange.Exchange // over, and under way
	Under   int                 // of those, how many are under way
	Left    int                 // that are over and were kept no longer
	Dropped uint64              // frames for which the system had no room
	Why     string              // nothing is heard any more; "" while something is
}

// Watch is at work until its context ends and Wait has returned.
type Watch struct {
	wg sync.WaitGroup

	mu      sync.Mutex
	tracker *exchange.Tracker
	over    []exchange.Exchange
	seen    Seen
}

// Start begins to listen at an interface.
func Start(ctx context.Context, m machine.Machine, iface string, hw endpoint.HardwareAddr) (*Watch, error) {
	from, ok := m.(machine.Capturer)
	if !ok {
		return nil, ErrNotHeard
	}
	choice, err := capture.ParseChoice(heard)
	if err != nil {
		return nil, err
	}
	program, err := choice.Compile(capture.Mine{Hardware: hw}, snap)
	if err != nil {
		return nil, err
	}
	socket, err := from.OpenCapture(machine.CaptureConfig{Interface: iface, Choose: program})
	if err != nil {
		return nil, err
	}
	w := &Watch{seen: Seen{Began: time.Now()}}
	w.tracker = exchange.NewTracker(w.ended)
	w.wg.Go(func() {
		defer guard.Goroutine()
		w.listen(ctx, socket)
	})
	return w, nil
}

// ended takes in what is over. The lock is held: it comes from the tracker.
func (w *Watch) ended(x exchange.Exchange) {
	if len(w.over) >= 2*most {
		w.seen.Left += len(w.over) - most
		w.over = slices.Clone(w.over[len(w.over)-most:])
	}
	w.over = append(w.over, x)
}

func (w *Watch) listen(ctx context.Context, socket machine.CaptureSocket) {
	var c machine.Captured
	defer socket.Close()
	for number := 1; ctx.Err() == nil; {
		came, err := socket.Receive(&c)
		w.mu.Lock()
		switch {
		case err != nil:
			w.seen.Why = err.Error()
		case came:
			capture.TakeFrame(w.tracker, c.At, number, c.Data)
			number++
		default: // nothing comes: what waits for an answer may have waited long enough
			w.tracker.Pass(time.Now())
			w.seen.Dropped = socket.Dropped()
		}
		w.mu.Unlock()
		if err != nil {
			return
		}
	}
}

// See gives what has passed so far.
func (w *Watch) See() Seen {
	w.mu.Lock()
	defer w.mu.Unlock()
	out := w.seen
	open := w.tracker.Open()
	out.Under = len(open)
	out.List = append(slices.Clone(w.over[max(len(w.over)-most, 0):]), open...)
	out.Left += len(w.over) - min(len(w.over), most)
	exchange.Sort(out.List)
	return out
}

// Wait returns when nothing is listened to any more.
func (w *Watch) Wait() { w.wg.Wait() }
