package fault_test

import (
	"net/netip"
	"time"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	. "passepartout/internal/core/evidence/evidencetest"
	"passepartout/internal/core/facts"
	"passepartout/internal/core/target"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/zone"
)

var (
	lock   = netip.MustParseAddr("192.168.1.1")
	lockHW = endpoint.HardwareAddr{2, 0, 0, 0, 9, 9}
)

// holds has a hardware address answer for an address on the segment; none keeps silent.
func holds(s *evidence.Set, a netip.Addr, hw ...endpoint.HardwareAddr) {
	n := evidence.Neighbour{Asked: a, Method: "arp", Asks: 1, Hardware: hw, Reply: Answer(a, 0.4)}
	if len(hw) == 0 {
		n.Asks, n.Reply = 3, evidence.Reply{Outcome: evidence.Silent, Waited: time.Second}
	}
	s.Neighbours = append(s.Neighbours, n)
}

// forTheLock asks for a device in another network, which does not answer, and may stand on the segment.
func forTheLock(s *evidence.Set, hw ...endpoint.HardwareAddr) {
	s.Target = target.Target{Addr: lock, Port: 80}
	s.Routes = []endpoint.RouteAnswer{{To: lock, Verdict: endpoint.Forward, Interface: "eth0", Via: Gateway, Source: Own}}
	s.Echoes[1] = evidence.Echo{Asked: lock, Method: "icmp", Reply: Silence()}
	s.Connects = []evidence.Connect{{To: netip.AddrPortFrom(lock, 80), Reply: Silence()}}
	s.Lookups = s.Lookups[:0]
	for _, server := range []netip.Addr{Core, NS} { // asked for something else
		s.Lookups = append(s.Lookups, evidence.Lookup{Server: server, Name: "kittiwake.example", Type: "SOA", RCode: "NOERROR", Asks: 1,
			Reply: Answer(server, 1)})
	}
	s.Hops = append(Path(NS, Gateway, Edge, Provider, Exchange, NS), Path(lock, Gateway, netip.Addr{}, netip.Addr{})...)
	holds(s, lock, hw...)
}

// saysNoWay has a router behind the gateway say that it knows no way there.
func saysNoWay(s *evidence.Set) {
	s.Connects[0].Reply = evidence.Reply{Outcome: evidence.Unreachable, From: Provider, Why: evidence.NoNet, ICMPType: 3,
		RTT: 8 * time.Millisecond}
}

var elsewhereCases = []testCase{
	{name: "a device with other settings on this segment", change: func(s *evidence.Set) { forTheLock(s, lockHW); saysNoWay(s) },
		zone: zone.LocalSubnet, fault: "device-in-another-network", confidence: verdict.Certain,
		says: "192.168.1.1 stands on 172.27.40.0/24",
		next: "passepartout visit 192.168.1.1"},
	{name: "the same, and nobody behind the gateway says anything of it", change: func(s *evidence.Set) { forTheLock(s, lockHW) },
		zone: zone.LocalSubnet, fault: "device-in-another-network", confidence: verdict.Likely},
	{name: "a neighbour of this network with a second address", change: func(s *evidence.Set) {
		forTheLock(s, lockHW)
		saysNoWay(s)
		holds(s, netip.MustParseAddr("172.27.40.70"), lockHW)
	}, zone: zone.LocalSubnet, fault: "device-in-another-network", confidence: verdict.Likely},
	{name: "the gateway answers for what lies behind it", change: func(s *evidence.Set) {
		forTheLock(s, s.Neighbours[0].Hardware[0])
		saysNoWay(s)
	}, zone: zone.Beyond, fault: "destination-unreachable", cleared: []string{"device-in-another-network"}},
	{name: "somebody answers for every address", change: func(s *evidence.Set) {
		forTheLock(s, lockHW)
		saysNoWay(s)
		holds(s, facts.Nobody, lockHW)
	}, zone: zone.Beyond, fault: "destination-unreachable", cleared: []string{"device-in-another-network"}},
	{name: "somebody answers for the network that it leads to", change: func(s *evidence.Set) {
		forTheLock(s, lockHW)
		saysNoWay(s)
		holds(s, lock.Next(), lockHW)
	}, zone: zone.Beyond, fault: "destination-unreachable", cleared: []string{"device-in-another-network"}},
	{name: "nobody on the segment has it", change: func(s *evidence.Set) { forTheLock(s); saysNoWay(s) }, zone: zone.Beyond,
		fault: "destination-unreachable", cleared: []string{"device-in-another-network"}},
	{name: "it answers by way of the gateway, and refuses", change: func(s *evidence.Set) {
		forTheLock(s, lockHW)
		s.Connects[0].Reply = evidence.Reply{Outcome: evidence.Refused, From: lock, RTT: time.Millisecond}
	}, zone: zone.Beyond, fault: "service-refused", cleared: []string{"device-in-another-network"}},
	{name: "it is reached by way of the gateway", change: func(s *evidence.Set) {
		forTheLock(s, lockHW)
		s.Echoes[1].Reply = Answer(lock, 1)
		s.Connects[0].Reply = Answer(lock, 1)
	}, zone: zone.None, cleared: []string{"device-in-another-network"}},
	{name: "whether it stands here could not be asked", change: func(s *evidence.Set) {
		forTheLock(s)
		saysNoWay(s)
		s.Neighbours = s.Neighbours[:2]
	}, zone: zone.Undetermined, possible: []string{"device-in-another-network"}},
}
