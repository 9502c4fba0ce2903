package fault_test

import (
	"net/netip"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	. "passepartout/internal/core/evidence/evidencetest"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/zone"
)

var wayoutCases = []testCase{
	{name: "the same gateway set by hand is the host's matter", change: func(s *evidence.Set) {
		through(s, stray)
		s.Endpoint.Routes[0].Origin, Interface(s).Addresses[0].Origin = endpoint.ByHand, endpoint.ByHand
		passes(s)
	}, zone: zone.Host, fault: "gateway-not-a-router", cleared: []string{"dhcp-wrong-options"}},
	{name: "a tunnel that carries nothing", change: func(s *evidence.Set) { Beside(s, "tun0", endpoint.Tunnel, 0, Answer(Bookings, 20)) },
		zone: zone.Host, fault: "tunnel-holds-route", confidence: verdict.Certain, says: "tun0",
		cleared: []string{"competing-default-routes"}},
	{name: "a tunnel, and no other way works either", change: func(s *evidence.Set) { Beside(s, "tun0", endpoint.Tunnel, 0, Silence()) },
		zone: zone.Undetermined, possible: []string{"tunnel-holds-route"}},
	{name: "a tunnel that holds the name servers, too", change: func(s *evidence.Set) {
		Beside(s, "tun0", endpoint.Tunnel, 0, Silence())
		for i := range s.Lookups {
			s.Lookups[i] = evidence.Lookup{Server: s.Lookups[i].Server, Name: s.Lookups[i].Name, Type: s.Lookups[i].Type, Asks: 3,
				Reply: Silence()}
		}
		s.OtherWays = []evidence.OtherWay{{Interface: "eth0", To: netip.AddrPortFrom(NS, 53), Reply: Answer(NS, 20)}}
		s.Arrivals = []evidence.Arrival{{From: NS, Proto: "udp", Port: 53}} // of that attempt
	}, zone: zone.Host, fault: "tunnel-holds-route", confidence: verdict.Certain, says: "tun0"},
	{name: "the wrong one of two", change: func(s *evidence.Set) { Beside(s, "wlan0", endpoint.Wireless, 100, Answer(Bookings, 20)) },
		zone: zone.Host, fault: "competing-default-routes", confidence: verdict.Certain, says: "192.168.77.1", next: "below 100",
		cleared: []string{"tunnel-holds-route"}},
	{name: "a neighbour for a gateway", change: func(s *evidence.Set) {
		through(s, store)
		passes(s)
		s.Endpoint.Routes[0].Origin = endpoint.ByHand
	}, zone: zone.Host, fault: "gateway-not-a-router", confidence: verdict.Certain, says: "172.27.40.1", next: "172.27.40.70",
		possible: []string{"gateway-does-not-forward"}},
	{name: "a neighbour for a gateway, and only the offer tells", change: func(s *evidence.Set) {
		through(s, store)
		s.Endpoint.Routes[0].Origin = endpoint.ByHand
	}, zone: zone.Host, fault: "gateway-not-a-router", says: "the segment's router is 172.27.40.1"},
}
