package fault_test

import (
	"net/netip"
	"passepartout/internal/core/evidence"
	. "passepartout/internal/core/evidence/evidencetest"
	"passepartout/internal/core/zone"
)

var remarksCases = []testCase{
	{name: "echo ignored, service works", change: func(s *evidence.Set) {
		s.Echoes[1].Reply = Silence()
	}, zone: zone.None, remarks: []string{"echo-filtered"}, cleared: []string{"destination-silent"}},
	{name: "gateway ignores echo", change: func(s *evidence.Set) { s.Echoes[0].Reply = Silence() }, zone: zone.None,
		remarks: []string{"gateway-ignores-echo"}, cleared: []string{"gateway-silent"}},
	{name: "silent hop", change: func(s *evidence.Set) { s.Hops = Path(Bookings, Gateway, netip.Addr{}, Provider, Exchange, Bookings) },
		zone: zone.None, remarks: []string{"hop-silent"}},
}
