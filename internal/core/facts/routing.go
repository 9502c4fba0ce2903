package facts

import (
	"net/netip"
	"slices"
)

// Routed reports whether the system has said of every address of the target how it would reach it.
func (f *Facts) Routed() bool {
	return !slices.ContainsFunc(f.Addresses, func(a netip.Addr) bool { _, known := f.RouteTo(a); return !known })
}
