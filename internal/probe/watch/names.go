package watch

import (
	"context"
	"net/netip"
	"time"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/target"
	"passepartout/internal/guard"
	"passepartout/internal/probe"
)

// The bounds of the time after which a name is looked up again: its TTL, but no more often and no more rarely than this. After a failure,
// retryName.
const (
	leastLife = time.Second
	mostLife  = time.Hour
	retryName = 5 * time.Second
)

func (w *Watcher) resolve(ctx context.Context, t target.Target, f evidence.Families) ([]netip.Addr, time.Duration, error) {
	e, err := w.Machine.Read(ctx)
	if err != nil {
		return nil, 0, err
	}
	return probe.Resolve(ctx, w.Machine, e, t, f)
}

// lookUp finds a subject's address in the background, and again whenever its time to live has run out.
func (w *Watcher) lookUp(x *Subject) {
	generation, t, families := x.generation, x.Target, x.Families
	go func() {
		defer guard.Goroutine()
		for {
			ctx, cancel := context.WithTimeout(context.Background(), retryName)
			addrs, life, err := w.Resolve(ctx, t, families)
			cancel()
			if err != nil || life == 0 { // a hosts file gives no time to live, and may be edited
				life = retryName
			}
			if !w.found(x, generation, addrs, err) {
				return
			}
			select {
			case <-w.ended:
				return
			case <-time.After(min(max(life, leastLife), mostLife)):
			}
		}
	}()
}

// found takes in what a look-up gave; false ends the looking.
func (w *Watcher) found(x *Subject, generation int, addrs []netip.Addr, err error) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	if x.generation != generation {
		return false
	}
	if err != nil {
		if !x.Address.IsValid() { // an address once found is kept while the name service fails
			x.Trouble, x.failed = err.Error(), true
		}
		return true
	}
	x.Trouble, x.failed = "", false
	for _, a := range addrs {
		if a == x.Address {
			return true // several addresses in changing order are no move
		}
	}
	was := x.Address
	x.Address = addrs[0]
	if was.IsValid() {
		const mostMoves = 100
		if len(x.Moves) >= mostMoves {
			x.Moves = append(x.Moves[:0], x.Moves[1:]...)
		}
		x.Moves = append(x.Moves, Move{At: w.now(), From: was, To: x.Address})
		return true
	}
	w.plan(x)
	return true
}
