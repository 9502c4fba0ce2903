package probe

import (
	"context"
	"net/netip"
	"slices"
	"sync"
	"time"

	"passepartout/internal/core/evidence"
	"passepartout/internal/guard"
	"passepartout/internal/machine"
	"passepartout/internal/nap"
)

// A host lets about six ICMP errors to one address through, and then one a second (RFC 1812 §4.3.2.8 asks for such a ration). After a round
// that brought nothing, the next one is asked when the ration has grown.
const (
	rationGrows = 1100 * time.Millisecond
	sizeRounds  = 7
	// a round is waited for so long: an error that is held up for a moment would cost a round, and a token
	roundLeast = 300 * time.Millisecond
	// rounds that brought nothing, from a host that has not spoken: others that have may use their ration up on other questions
	patienceFor = 2
)

// sizeByDatagrams looks for the largest packet by what a host says of a port that nobody uses. The sizes of a round are sent at once, the
// largest first, so that what is left of the host's ration of errors goes to the largest that arrived. A size counts as lost only when a
// smaller one of its round was answered: it was there later, and met the same ration.
func sizeByDatagrams(ctx context.Context, e *Echoer, q SizeQuestion) (evidence.Sizing, bool) {
	out := evidence.Sizing{To: q.To.WithZone(""), Full: q.Full}
	begun := q.Begun
	if begun == nil {
		begun = func() {}
	}
	least := leastSize4
	if q.To.Is6() {
		least = leastSize6
	}
	sizes, patient := []int{q.Full}, patienceFor
	speaks := func() bool { return q.Speaks != nil && q.Speaks() } // whatever it makes of echo
	for round := range sizeRounds {
		if speaks() {
			q.Enough = nil
		}
		answers := askSizes(ctx, e, q, sizes, begun)
		begun = func() {}
		if ctx.Err() != nil {
			return out, false
		}
		smallest := q.Full + 1
		for _, s := range sizes { // the largest first, as askSizes has put them
			switch r := answers[s]; {
			case (r.Outcome == evidence.Refused || r.Outcome == evidence.Answered) && r.From.WithZone("") == out.To:
				out.Passes, smallest = max(out.Passes, s), min(smallest, s)
			case r.Why == evidence.TooBig && r.From.IsValid():
				out.Told, out.From, out.Lost = true, r.From, s
				if r.MTU > 0 {
					out.Passes = r.MTU
				}
				return out, true
			case r.Outcome != evidence.Silent:
				return out, false // refused on the way, or by this machine: it says nothing of sizes
			}
		}
		for _, s := range sizes {
			if s > max(out.Passes, smallest) && (out.Lost == 0 || s < out.Lost) {
				out.Lost = s
			}
		}
		if out.Passes == q.Full {
			out.Lost = 0
			return out, true
		}
		if over(q.Enough) && out.Passes == 0 && !speaks() {
			return out, false
		}
		switch {
		case round == 0:
			sizes = append(usual(least, q.Full), q.Full)
		case smallest > q.Full && patient <= 0 && !speaks(), smallest > q.Full && !Sleep(ctx, rationGrows):
			return out, out.Passes > 0 && out.Lost > 0
		case smallest > q.Full: // not even a small one: the ration was used up, or nobody is there; that is waited for
			patient--
		case out.Lost-out.Passes <= 1:
			return out, stillLost(ctx, e, q, out.Lost)
		default:
			sizes = append(between(out.Passes, out.Lost), out.Passes, q.Full)
		}
	}
	return out, out.Passes > 0 && out.Lost > 0 && stillLost(ctx, e, q, out.Lost)
}

// stillLost asks once more for the size that was lost, alone, when the host may say something again: where packets take several ways,
// smaller ones overtake, and the ration is used up by the time that the larger one arrives.
func stillLost(ctx context.Context, e *Echoer, q SizeQuestion, size int) bool {
	if !Sleep(ctx, rationGrows) {
		return false
	}
	r := askSizes(ctx, e, q, []int{size}, func() {})[size]
	return r.Outcome == evidence.Silent
}

// over reports that a channel is closed.
func over(c <-chan struct{}) bool {
	select {
	case <-c:
		return true
	default:
		return false
	}
}

// askSizes sends one datagram of every size, the largest first, and waits until the largest was answered, or long enough.
func askSizes(ctx context.Context, e *Echoer, q SizeQuestion, sizes []int, begun func()) map[int]evidence.Reply {
	ctx, cancel := nap.Within(ctx, max(q.Patience(), roundLeast))
	defer cancel()
	if q.Enough != nil {
		go func() {
			defer guard.Goroutine()
			select {
			case <-q.Enough:
				cancel()
			case <-ctx.Done():
			}
		}()
	}
	slices.Sort(sizes)
	slices.Reverse(sizes)
	var mu sync.Mutex
	var wg sync.WaitGroup
	out := map[int]evidence.Reply{}
	keep := func(size int, r evidence.Reply) {
		mu.Lock()
		defer mu.Unlock()
		out[size] = r
		if size == sizes[0] && r.Came() {
			cancel()
		}
	}
	for _, s := range sizes {
		port, err := e.m.OpenDatagram(
			machine.DatagramConfig{To: netip.AddrPortFrom(q.To, unusedPort), Interface: e.iface, DontFragment: true})
		var sent time.Time
		if err == nil {
			defer port.Close()
			sent, err = port.Send(payload(s - heads(q.To)))
		}
		if err != nil {
			keep(s, machine.LocalError(err))
			continue
		}
		wg.Go(func() {
			defer guard.Goroutine()
			keep(s, hear(ctx, port, sent))
		})
	}
	begun()
	wg.Wait()
	return out
}
