package plan

import (
	"context"
	"net/netip"
	"sync"
	"time"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/facts"
	"passepartout/internal/probe"
)

// The times of the hand-offs.
const (
	// How long a neighbour gets to say that the hop limit ran out: it looks at that first, and need not ask anybody for it.
	handoffPatience = 250 * time.Millisecond
	// What lies beyond the gateway may be far: while nothing has come from there it is given this long, then three times the slowest answer
	// and a grace.
	throughPatience = 1200 * time.Millisecond
	throughGrace    = 250 * time.Millisecond
	handoffPace     = 40 * time.Millisecond
)

// handOff hands packets to other neighbours than the routing table names, when the way it names leads nowhere: to the gateway what the mask
// takes for a neighbour, and to every neighbour what a gateway does not pass on.
func (r *run) handOff(ctx context.Context, iface *endpoint.Interface) {
	own := iface.Usable(false)
	if len(own) == 0 || r.Families.No4 {
		return
	}
	from := own[0].Prefix.Addr()
	doubtful := func(s *evidence.Set) bool { return facts.New(s).GatewayDoubtful() }
	r.inDoubt("another-neighbour", works, doubtful, func() { r.findForwarder(ctx, iface, from) }, evidence.Handoffs)
	_, done := r.wait(evidence.Handoffs)
	r.wg.Go(func() {
		defer done()
		r.handNeighbours(ctx, from)
	})
}

// handNeighbours hands the gateway what the mask takes for a neighbour and nobody answers for.
func (r *run) handNeighbours(ctx context.Context, from netip.Addr) {
	through := map[netip.Addr]bool{}
	for probe.Sleep(ctx, handoffPace) {
		set := r.snapshot()
		p := facts.New(set)
		if p.Usable() == facts.Yes || !r.busy() {
			return
		}
		for _, a := range p.WantedOnLink() {
			if n, asked := p.Neighbour(a); asked && n.Outcome == evidence.Silent && !through[a] {
				through[a] = true
				r.step(func() { r.through(ctx, p, from, a) }, evidence.Handoffs)
			}
		}
	}
}

// through hands the gateway, and the routers that are offered, what the mask takes for a neighbour.
func (r *run) through(ctx context.Context, p *facts.Facts, from, to netip.Addr) {
	var wg sync.WaitGroup
	for _, by := range p.RoutersNamed() {
		if n, known := p.Neighbour(by); by == to || known && n.Outcome == evidence.Silent {
			continue
		}
		wg.Go(func() {
			patience := throughPatience
			if slowest := p.SlowestOutside(); slowest > 0 {
				patience = min(patience, 3*slowest+throughGrace)
			}
			ctx, cancel := context.WithTimeout(ctx, patience)
			defer cancel()
			defer context.AfterFunc(r.present(by).ctx, cancel)()
			n := r.segment.Resolve(ctx, from, by)
			if n.Outcome != evidence.Answered || len(n.Hardware) == 0 {
				return
			}
			r.observe(evidence.Handoff{To: to, By: by, HopLimit: 64}) // before the answer can arrive at the port
			h := r.segment.HandTo(ctx, by, n.Hardware[0], from, netip.AddrPortFrom(to, r.Target.Port), 64)
			r.observe(h)
		})
	}
	wg.Wait()
}

// findForwarder looks for a neighbour that passes traffic on, among those that the sweep finds: it hands each a packet for elsewhere, once.
func (r *run) findForwarder(ctx context.Context, iface *endpoint.Interface, own netip.Addr) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	var wg sync.WaitGroup
	defer wg.Wait()
	handed := map[netip.Addr]bool{}
	for probe.Sleep(ctx, handoffPace) {
		set := r.snapshot()
		p := facts.New(set)
		to := evidence.Unassigned
		for _, a := range p.Addresses {
			if a.Is4() && !iface.OnLink(a) {
				to = a
			}
		}
		for _, n := range set.Neighbours {
			if n.Outcome != evidence.Answered || len(n.Hardware) == 0 || !n.Asked.Is4() || n.Asked == p.Gateway || handed[n.Asked] ||
				len(handed) >= sweepMost {
				continue
			}
			handed[n.Asked] = true
			wg.Go(func() {
				one, done := context.WithTimeout(ctx, handoffPatience)
				defer done()
				h := r.segment.HandTo(one, n.Asked, n.Hardware[0], own, netip.AddrPortFrom(to, 0), 1)
				if ctx.Err() == nil || h.Came() {
					r.observe(h)
				}
				if h.Passed() {
					cancel() // found: nobody else need be asked
				}
			})
		}
		if set.SweepDone || p.Usable() == facts.Yes || p.Forwards == facts.Yes {
			return // those just handed get their time
		}
	}
}
