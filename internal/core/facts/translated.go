package facts

import (
	"net/netip"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/subnet"
)

// Translated tells for which IPv4 address an address of the target stands, and under which prefix of a translator: the well-known one, one
// that a router advertises (RFC 8781), or one that a name server makes addresses of (RFC 7050). known is false if none is known to hold it.
func (f *Facts) Translated(a netip.Addr) (four netip.Addr, prefix netip.Prefix, known bool) {
	prefixes := []netip.Prefix{subnet.WellKnownTranslation}
	for _, r := range f.Routers6 {
		prefixes = append(prefixes, r.Translation)
	}
	for _, l := range f.Lookups {
		for _, made := range l.Addresses {
			if p, ok := subnet.TranslationPrefix(made); ok && l.Type == evidence.DNS64 {
				prefixes = append(prefixes, p)
			}
		}
	}
	for _, p := range prefixes {
		if four, known = subnet.Embedded(p, a); known {
			return four, p, true
		}
	}
	return netip.Addr{}, netip.Prefix{}, false
}
