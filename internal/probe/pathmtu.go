package probe

import (
	"context"
	"net/netip"
	"slices"
	"sync"
	"time"

	"passepartout/internal/core/evidence"
	"passepartout/internal/guard"
	"passepartout/internal/nap"
)

// SizeQuestion is a search for the largest packet that reaches an address whole. Sizes are those of IP packets.
type SizeQuestion struct {
	To       netip.Addr
	Full     int                  // what the port sends at most
	Patience func() time.Duration // for one packet, by what is known of the way so far
	Enough   <-chan struct{}      // when closed, nobody will answer
	Speaks   func() bool          // whether the host is known to say that a port is not used; nil: it is not known
	Begun    func()               // called once the first packet of full size is on its way, if it is set
}

// The least that every link must carry (RFC 791 §3.2 asks hosts to take 576; RFC 8200 §5).
const (
	leastSize4 = 576
	leastSize6 = 1280
)

// usualSizes are the MTUs of common links and tunnels, tried first (after RFC 1191 §7.1, with those of today).
var usualSizes = []int{576, 1006, 1280, 1380, 1400, 1420, 1440, 1452, 1460, 1472, 1480, 1492, 1500, 2002, 4352, 7500, 9000}

// heads is the length of the IP header with the eight octets of an echo request's (RFC 792) or a datagram's (RFC 768).
func heads(to netip.Addr) int {
	if to.Is6() {
		return 48
	}
	return 28
}

// Size tries one packet of full size, and only if that does not come back looks for the largest that does: common sizes first, then by
// halves. It is false when ctx ended first, or nobody answered at all. Where echo is withheld, datagrams to an unused port do as well.
func Size(ctx context.Context, e *Echoer, q SizeQuestion) (evidence.Sizing, bool) {
	if !e.m.Permissions().Echo.Granted {
		return sizeByDatagrams(ctx, e, q)
	}
	if q.Begun != nil {
		q.Begun()
	}
	out := evidence.Sizing{To: q.To.WithZone(""), Full: q.Full}
	const tries = 3
	switch r := e.trySize(ctx, q, q.Full, tries); {
	case r.Outcome == evidence.Answered:
		out.Passes = q.Full
		return out, true
	case ctx.Err() != nil:
		return out, false
	case r.Why == evidence.TooBig && r.From.IsValid():
		out.Told, out.From, out.Passes, out.Lost = true, r.From, r.MTU, q.Full
		return out, true
	case r.Outcome != evidence.Silent:
		return out, false
	}
	out.Lost = q.Full
	least := leastSize4
	if q.To.Is6() {
		least = leastSize6
	}
	for out.Lost-max(out.Passes, least-1) > 1 {
		low := max(out.Passes, least-1)
		sizes := between(low, out.Lost)
		if out.Passes == 0 {
			sizes = usual(least, out.Lost)
		}
		before := out
		for s, r := range e.trySizes(ctx, q, sizes) {
			switch {
			case r.Outcome == evidence.Answered:
				out.Passes = max(out.Passes, s)
			case r.Why == evidence.TooBig && r.From.IsValid():
				out.Told, out.From, out.Lost = true, r.From, min(out.Lost, s)
			}
		}
		if ctx.Err() != nil {
			return out, false
		}
		if out.Passes == 0 {
			return out, false // not even small ones: nothing is known of sizes
		}
		for _, s := range sizes {
			if s > out.Passes {
				out.Lost = min(out.Lost, s)
			}
		}
		if out == before {
			break
		}
	}
	return out, out.Told || e.lostForSize(ctx, q, out)
}

// lostForSize reports whether it is the size for which packets are lost, and not a ration of echo replies (RFC 1812 §4.3.2.8): a large and
// a small one are sent by turns, and all of the large ones must be lost, and none of the small ones. Where a small one is lost too, the
// ration is given time to grow.
func (e *Echoer) lostForSize(ctx context.Context, q SizeQuestion, s evidence.Sizing) bool {
	const pairs, tries, grows = 3, 6, 200 * time.Millisecond
	lost := 0
	for range tries {
		if !Sleep(ctx, grows) { // longer than the small one waits: a ration would let the large one through
			return false
		}
		if large := e.trySize(ctx, q, s.Lost, 1); large.Outcome != evidence.Silent {
			return false
		}
		if small := e.trySize(ctx, q, s.Passes, 1); small.Outcome == evidence.Answered {
			lost++
		}
		if lost == pairs {
			return true
		}
	}
	return false
}

// usual gives the common sizes from least on and under lost.
func usual(least, lost int) (sizes []int) {
	for _, s := range usualSizes {
		if s >= least && s < lost {
			sizes = append(sizes, s)
		}
	}
	return sizes
}

// between gives sizes that divide what lies between one that passes and one that is lost, the one above the first among them: a common size
// is usually the very one.
func between(passes, lost int) []int {
	sizes := []int{passes + 1}
	const parts = 9
	for i := 1; i < parts; i++ {
		if s := passes + (lost-passes)*i/parts; s > passes && s < lost && !slices.Contains(sizes, s) {
			sizes = append(sizes, s)
		}
	}
	return sizes
}

// trySize sends packets of one size until one comes back or is refused, at most so often.
func (e *Echoer) trySize(ctx context.Context, q SizeQuestion, size, tries int) (r evidence.Reply) {
	for range tries {
		ask, cancel := nap.Within(ctx, q.Patience())
		if q.Enough != nil {
			go func() {
				defer guard.Goroutine()
				select {
				case <-q.Enough:
					cancel()
				case <-ask.Done():
				}
			}()
		}
		r, _ = e.Ask(ask, EchoQuestion{To: q.To, Size: size - heads(q.To), DontFragment: true})
		cancel()
		if r.Outcome != evidence.Silent || ctx.Err() != nil {
			return r
		}
		if over(q.Enough) {
			return evidence.Reply{Outcome: evidence.NotKnown}
		}
	}
	return r
}

func (e *Echoer) trySizes(ctx context.Context, q SizeQuestion, sizes []int) map[int]evidence.Reply {
	var mu sync.Mutex
	var wg sync.WaitGroup
	out := map[int]evidence.Reply{}
	for _, s := range sizes {
		wg.Go(func() {
			defer guard.Goroutine()
			r := e.trySize(ctx, q, s, 2)
			mu.Lock()
			out[s] = r
			mu.Unlock()
		})
	}
	wg.Wait()
	return out
}
