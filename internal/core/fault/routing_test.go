package fault_test

import (
	"net/netip"
	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	. "passepartout/internal/core/evidence/evidencetest"
	"passepartout/internal/core/target"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/zone"
	"time"
)

var routingCases = []testCase{
	{name: "the own filter swallows attempts to connect", change: func(s *evidence.Set) {
		s.Connects[0].Reply = evidence.Reply{Outcome: evidence.Silent, Waited: 1600 * time.Millisecond, Unsent: 1}
	}, zone: zone.Host, fault: "host-firewall", confidence: verdict.Likely, cleared: []string{"service-refused"}},
	{name: "no gateway", change: func(s *evidence.Set) {
		s.Endpoint.Routes, s.Routes, s.Connects, s.Hops = nil, []endpoint.RouteAnswer{{To: Bookings, Verdict: endpoint.NoRoute}}, nil, nil
	}, zone: zone.Host, fault: "gateway-not-set", confidence: verdict.Certain, next: "Set the gateway to 172.27.40.1",
		cleared: []string{"mask-too-narrow", "route-blocked"}},
	{name: "the gateway stands in the table of a VRF", change: func(s *evidence.Set) {
		for i := range s.Endpoint.Routes {
			s.Endpoint.Routes[i].Table = 10
		}
		s.Routes, s.Connects, s.Hops = []endpoint.RouteAnswer{{To: Bookings, Verdict: endpoint.NoRoute}}, nil, nil
		Interface(s).VRF, Interface(s).VRFTable = "office", 10
	}, zone: zone.Host, fault: "gateway-not-set", confidence: verdict.Certain, says: "belongs to the VRF office",
		next: "in the VRF office"},
	{name: "no gateway, and none needed", change: func(s *evidence.Set) {
		OnSegment(s)
		s.Endpoint.Routes = nil
	}, zone: zone.None, also: []string{"gateway-not-set"}},
	{name: "gateway one octet off", change: func(s *evidence.Set) {
		GatewayGone(s)
		wrong := netip.MustParseAddr("172.27.41.1")
		s.Endpoint.Routes[0].Via, s.Routes[0].Via, s.Neighbours[0].Asked = wrong, wrong, wrong
		s.Endpoint.Routes[0].Origin = endpoint.ByHand
	}, zone: zone.Host, fault: "gateway-outside-subnet", confidence: verdict.Certain, says: "octet 3 is 41", next: "172.27.40.1"},
	{name: "a blackhole", change: func(s *evidence.Set) {
		s.Routes[0] = endpoint.RouteAnswer{To: Bookings, Verdict: endpoint.Blackhole}
		s.Connects, s.Hops = nil, Path(NS, Gateway, Edge, Provider, Exchange, NS)
		s.Echoes = s.Echoes[:1]
	}, zone: zone.Host, fault: "route-blocked", says: "203.0.113.80"},
	{name: "a rule by source sends connections astray, and echo passes", change: func(s *evidence.Set) { ruledBySource(s) },
		zone:  zone.Host,
		fault: "route-by-rule-wrong", confidence: verdict.Likely, says: "172.27.40.70"},
	{name: "a rule by source, and the main table's way leads there", change: func(s *evidence.Set) {
		ruledBySource(s)
		s.Handoffs = []evidence.Handoff{{To: Bookings, By: Gateway, HopLimit: 64, Reply: Answer(Bookings, 20)}}
	}, zone: zone.Host, fault: "route-by-rule-wrong", confidence: verdict.Certain},
	{name: "a rule by source, and the service is filtered on every way", change: func(s *evidence.Set) {
		ruledBySource(s)
		s.Handoffs = []evidence.Handoff{{To: Bookings, By: Gateway, HopLimit: 64, Reply: evidence.Reply{Outcome: evidence.Silent}}}
	}, zone: zone.Beyond, fault: "service-filtered", cleared: []string{"route-by-rule-wrong"}},
	{name: "sending is forbidden here", change: func(s *evidence.Set) {
		Unnamed(s, func(netip.Addr) evidence.Lookup {
			return evidence.Lookup{Reply: evidence.Reply{Outcome: evidence.LocalError, Forbidden: true, Reason: "rules"}}
		})
	}, zone: zone.Host, fault: "host-firewall", confidence: verdict.Certain, cleared: []string{"gateway-silent"}},
	{name: "answers arrive and are lost", change: func(s *evidence.Set) {
		Unnamed(s, Unanswered)
		s.Arrivals = []evidence.Arrival{{From: Core, Proto: "udp", Port: 53}}
	}, zone: zone.Host, fault: "host-firewall", says: "172.27.40.2"},
	{name: "no name server", change: func(s *evidence.Set) { s.Endpoint.Resolvers = nil; Unnamed(s, Unanswered); s.Lookups = nil },
		zone: zone.Host, fault: "resolver-not-set", confidence: verdict.Certain, next: "172.27.40.2"},
	{name: "no name server, and none needed", change: func(s *evidence.Set) {
		ByAddress(s)
		s.Endpoint.Resolvers, s.Lookups = nil, nil
	}, zone: zone.None, also: []string{"resolver-not-set"}},
	{name: "gateway that drops all, without frames", change: func(s *evidence.Set) {
		GatewayGone(s)
		s.Neighbours[0] = evidence.Neighbour{Asked: Gateway, Method: "by the kernel", Asks: 1, Reply: Answer(Gateway, 0.4)}
		WithoutFrames(s)
	}, zone: zone.Undetermined, says: "what arrives at the interface", possible: []string{"host-firewall", "gateway-does-not-forward"}},
	{name: "no target, no gateway", change: func(s *evidence.Set) {
		s.Target = target.Target{}
		s.Endpoint.Routes, s.Connects, s.Routes, s.Hops = nil, nil, nil, nil
	}, zone: zone.Host, fault: "gateway-not-set"},
	{name: "hosts file names the target", change: func(s *evidence.Set) {
		s.Endpoint.Hosts = []endpoint.HostsLine{{Address: Bookings, Names: []string{"bookings.kittiwake.example"}}}
		s.Endpoint.Resolvers, s.Lookups = nil, nil
	}, zone: zone.None, also: []string{"resolver-not-set"}},
}

// ruledBySource: what this machine sends from its address is looked up in a table that leads to a neighbour; echo, which has no source when
// it is looked up, goes by the main table.
func ruledBySource(s *evidence.Set) {
	neighbour := netip.MustParseAddr("172.27.40.70")
	s.Endpoint.Rules = []endpoint.Rule{
		{Priority: 100, From: netip.MustParsePrefix("172.27.40.0/24"), To: netip.PrefixFrom(Bookings, 32), Table: 7}}
	s.Endpoint.Routes = append(s.Endpoint.Routes,
		endpoint.Route{To: netip.MustParsePrefix("0.0.0.0/0"), Via: neighbour, Interface: "eth0", Table: 7,
			Verdict: endpoint.Forward})
	s.Routes[0].Via = neighbour
	s.Connects[0].Reply = evidence.Reply{Outcome: evidence.Silent, Waited: 1600 * time.Millisecond}
}
