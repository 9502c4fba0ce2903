package facts

import (
	"net/netip"

	"passepartout/internal/core/evidence"
)

// Opens reports whether an address that is not the target's accepts a connection as the target should.
func (f *Facts) Opens(a netip.Addr) Answer {
	result := Unknown
	for _, c := range f.Connects {
		if c.To.Addr() != a || c.Outcome == evidence.NotKnown {
			continue
		}
		if c.Outcome == evidence.Answered {
			return Yes
		}
		result = No
	}
	return result
}

// NobodysAddress reports whether an address that a name leads to is no host's: the unspecified one, and loopback where a name server gives
// it (RFC 1122 §3.2.1.3, RFC 4291 §2.5). Filters answer so for what they block.
func (f *Facts) NobodysAddress(a netip.Addr) bool {
	switch f.Source {
	case "DNS":
		return a.IsUnspecified() || a.IsLoopback()
	case "hosts file": // a program that is tried out on this machine may well be entered with loopback
		return a.IsUnspecified()
	}
	return false
}
