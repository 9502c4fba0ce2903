package fault_test

import (
	"net/netip"
	"passepartout/internal/core/evidence"
	. "passepartout/internal/core/evidence/evidencetest"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/zone"
)

var sheetCases = []testCase{
	{name: "on another segment than documented", change: func(s *evidence.Set) {
		onQuay(s)
		s.Connects = []evidence.Connect{{To: netip.AddrPortFrom(Bookings, 443), Reply: Silence()}}
		s.Echoes[1].Reply = Silence()
		s.Hops = Path(Bookings, netip.MustParseAddr("10.66.0.1"), Edge, netip.Addr{}, netip.Addr{})
	}, zone: zone.LocalSubnet, fault: "wrong-segment", confidence: verdict.Certain, says: "belongs on pier 172.27.40.0/24"},
	{name: "on another segment, and it works", change: onQuay, zone: zone.None, also: []string{"wrong-segment"}},
	{name: "on another segment, and no sheet", change: func(s *evidence.Set) { onQuay(s); s.Sheet = nil }, zone: zone.None,
		possible: []string{"wrong-segment"}},
	{name: "on the documented one", change: func(s *evidence.Set) { s.Sheet = pier() }, zone: zone.None,
		cleared: []string{"wrong-segment", "dhcp-rogue"}},
}
