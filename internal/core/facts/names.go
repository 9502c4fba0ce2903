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
