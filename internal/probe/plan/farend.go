package plan

import (
	"cmp"
	"context"
	"net/netip"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/farend"
	"passepartout/internal/probe"
)

// askFarEnd finds out whether what is sent to an address of the target arrives there, from our responder at the far end.
func (r *run) askFarEnd(ctx context.Context, a netip.Addr) {
	addrs, _, err := probe.Resolve(ctx, r.Machine, r.endpoint, r.Responder, evidence.Families{})
	if err != nil {
		addrs = nil
	}
	port := cmp.Or(r.Responder.Port, farend.Port)
	known := []netip.AddrPort{netip.AddrPortFrom(a, port)}
	for _, x := range addrs {
		if x != a {
			known = append(known, netip.AddrPortFrom(x, port))
		}
	}
	f := probe.AskFarEnd(ctx, r.Machine, known[0], known)
	if ctx.Err() == nil || f.Answered > 0 || f.Told {
		r.observe(f)
	}
}
