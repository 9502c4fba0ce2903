package facts

import (
	"net/netip"
	"slices"

	"passepartout/internal/core/evidence"
)

// OffLinkTrails are the traces to addresses beyond the gateway.
func (f *Facts) OffLinkTrails() []evidence.Trail {
	return slices.Clip(f.offLink.of(f.reckonOffLinkTrails))
}

func (f *Facts) reckonOffLinkTrails() (out []evidence.Trail) {
	for _, t := range f.Trails {
		if !f.OnLink(t.To) && !f.Owns(t.To) && t.To != evidence.Unassigned {
			out = append(out, t)
		}
	}
	return out
}

// CommonEnd is the router past the gateway at which every trace ends, and how many traces end there. It is false while any end host
// beyond the gateway answers, or the traces end at different places.
func (f *Facts) CommonEnd() (end evidence.Station, n int, ok bool) {
	if len(f.Witnesses()) > 0 {
		return end, 0, false
	}
	for _, t := range f.OffLinkTrails() {
		last, any := t.Last()
		if t.Reached || !any || last.HopLimit < 2 || !slices.Contains(f.Outside, last.From) || n > 0 && last.From != end.From {
			return end, 0, false
		}
		if n == 0 || last.HopLimit < end.HopLimit {
			end = last
		}
		n++
	}
	return end, n, n > 0
}

// WhoSaid is who reported a target unreachable, for a reason that fits.
func (f *Facts) WhoSaid(fits func(evidence.Reply) bool) (from netip.Addr) {
	f.EachReply(func(asked netip.Addr, r evidence.Reply, _ int) {
		if r.Outcome == evidence.Unreachable && !f.Owns(r.From) && fits(r) && (!from.IsValid() || r.From.Less(from)) {
			from = r.From
		}
	})
	return from
}

// Loop finds a router that ends packets of several hop limits, with another one in between.
func (f *Facts) Loop() (a, b netip.Addr, ok bool) {
	for _, t := range f.OffLinkTrails() {
		first := map[netip.Addr]int{}
		seen := map[netip.Addr]int{}
		for _, st := range t.Stations {
			if st.Outcome != evidence.Expired {
				continue
			}
			seen[st.From]++
			if at, again := first[st.From]; again && st.HopLimit > at+1 && seen[st.From] >= 2 {
				for _, mid := range t.Stations {
					if mid.HopLimit > at && mid.HopLimit < st.HopLimit && mid.From.IsValid() && mid.From != st.From {
						return st.From, mid.From, true
					}
				}
			}
			if _, again := first[st.From]; !again {
				first[st.From] = st.HopLimit
			}
		}
	}
	return a, b, false
}
