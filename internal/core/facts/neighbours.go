package facts

import (
	"net/netip"
	"slices"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
)

// Entry is what the machine's neighbour table held of an address when the tests began.
func (f *Facts) Entry(a netip.Addr) (endpoint.Neighbour, bool) {
	if f.Endpoint == nil || f.Iface == nil {
		return endpoint.Neighbour{}, false
	}
	for _, n := range f.Endpoint.Neighbours {
		if n.Address == a.WithZone("") && n.Interface == f.Iface.Name && !n.Hardware.IsZero() {
			return n, true
		}
	}
	return endpoint.Neighbour{}, false
}

// Holders are the hardware addresses that answer for an address now, in order.
func (f *Facts) Holders(a netip.Addr) (out []endpoint.HardwareAddr) {
	add := func(h endpoint.HardwareAddr) {
		if !h.IsZero() && !slices.Contains(out, h) {
			out = append(out, h)
		}
	}
	for _, n := range f.Neighbours {
		if n.Asked == a.WithZone("") && n.Outcome == evidence.Answered && n.Method != evidence.ByKernel {
			for _, h := range n.Hardware {
				add(h)
			}
		}
	}
	for _, h := range f.Heard {
		if h.Address == a {
			add(h.Hardware)
		}
	}
	slices.SortFunc(out, func(a, b endpoint.HardwareAddr) int { return slices.Compare(a[:], b[:]) })
	return out
}
