package fault_test

import (
	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	. "passepartout/internal/core/evidence/evidencetest"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/zone"
)

var interfaceCases = []testCase{
	{name: "interface down", change: func(s *evidence.Set) { NoAddress(s); Interface(s).Up = false; s.Discovery = nil }, zone: zone.Host,
		fault: "interface-down", confidence: verdict.Certain, says: "eth0", next: "ip link set dev eth0 up",
		possible: []string{"no-carrier", "gateway-not-set", "dhcp-silent"}},
	{name: "no port at all", change: func(s *evidence.Set) {
		NoAddress(s)
		s.Endpoint.Interfaces = s.Endpoint.Interfaces[:1]
		s.Interface = ""
	}, zone: zone.Host, fault: "interface-down", says: "no network interface"},
	{name: "no carrier", change: func(s *evidence.Set) { NoAddress(s); Interface(s).Carrier = endpoint.CarrierAbsent; s.Discovery = nil },
		zone: zone.Host, fault: "no-carrier", confidence: verdict.Certain, next: "cable", cleared: []string{"interface-down"}},
	{name: "no association", change: func(s *evidence.Set) {
		NoAddress(s)
		Interface(s).Carrier, Interface(s).Kind, s.Discovery = endpoint.CarrierAbsent, endpoint.Wireless, nil
	}, zone: zone.Host, fault: "no-carrier", says: "radio"},
	{name: "loopback dead", change: func(s *evidence.Set) { s.Loopback[0].Reply = Silence() }, zone: zone.None,
		also: []string{"stack-broken"}},
	{name: "the port loses what arrives", change: func(s *evidence.Set) {
		lossy(s)
		counted(s, endpoint.Counters{ReceivedPackets: 120, SentPackets: 180, ReceiveErrors: 24, Damaged: 24})
	}, zone: zone.Host, fault: "link-errors", confidence: verdict.Certain, says: "24 receive errors",
		possible: []string{"segment-lossy"}},
	{name: "the port loses what arrives, and by chance only from far away", change: func(s *evidence.Set) {
		Measured(s)
		s.Bursts[1] = Probed(Bookings, 40, 60, 20)
		counted(s, endpoint.Counters{ReceivedPackets: 120, SentPackets: 180, ReceiveErrors: 24})
	}, zone: zone.Host, fault: "link-errors", confidence: verdict.Likely, possible: []string{"path-lossy"}},
	{name: "the system drops what arrives", change: func(s *evidence.Set) {
		lossy(s)
		counted(s, endpoint.Counters{ReceivedPackets: 120, SentPackets: 180, ReceiveDrops: 24})
	}, zone: zone.Host, fault: "link-errors"},
	{name: "drops without a loss are usual", change: func(s *evidence.Set) {
		Measured(s)
		counted(s, endpoint.Counters{ReceivedPackets: 120, SentPackets: 180, ReceiveDrops: 24})
	}, zone: zone.None, cleared: []string{"link-errors"}},
	{name: "totals since the start say nothing", change: func(s *evidence.Set) {
		Measured(s)
		s.Counted = []evidence.InterfaceCount{
			{Interface: "eth0", Before: endpoint.Counters{ReceiveErrors: 9000},
				After: endpoint.Counters{ReceiveErrors: 9000, ReceivedPackets: 100}}}
	}, zone: zone.None, cleared: []string{"link-errors"}},
	{name: "errors and nothing lost", change: func(s *evidence.Set) {
		Measured(s)
		counted(s, endpoint.Counters{ReceivedPackets: 100, ReceiveErrors: 5})
	}, zone: zone.None, also: []string{"link-errors"}},
	{name: "half duplex", change: func(s *evidence.Set) { Measured(s); Interface(s).Duplex = endpoint.HalfDuplex }, zone: zone.None,
		also: []string{"link-errors"}},
	{name: "half duplex and a loss", change: func(s *evidence.Set) { lossy(s); Interface(s).Duplex = endpoint.HalfDuplex }, zone: zone.Host,
		fault: "link-errors", confidence: verdict.Likely},
	{name: "slower than documented", change: func(s *evidence.Set) { Measured(s); Interface(s).SpeedMbit = 100; s.Sheet = pier() },
		zone: zone.None, also: []string{"link-errors"}},
	{name: "100 Mbit/s, and nobody documents more",
		change: func(s *evidence.Set) { Measured(s); Interface(s).SpeedMbit = 100; counted(s, endpoint.Counters{}) }, zone: zone.None,
		cleared: []string{"link-errors"}},
}
