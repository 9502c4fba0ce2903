package fault_test

import (
	"net/netip"
	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	. "passepartout/internal/core/evidence/evidencetest"
	"passepartout/internal/core/target"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/zone"
	"slices"
	"time"
)

// own asks for a service of this machine itself, and somebody says so.
func own(text string, at netip.Addr, r evidence.Reply) func(*evidence.Set) {
	return func(s *evidence.Set) {
		s.Target, _ = target.Parse(text)
		s.Routes = []endpoint.RouteAnswer{{To: at, Verdict: endpoint.LocalRoute, Interface: "lo"}}
		s.Connects = []evidence.Connect{{To: netip.AddrPortFrom(at, s.Target.Port), Reply: r}}
		s.Hops, s.Lookups = nil, s.Lookups[:1]
	}
}

var loopback = netip.MustParseAddr("127.0.0.1")

var beyondCases = []testCase{
	{name: "nothing listens on this machine", change: own("127.0.0.1:9", loopback,
		evidence.Reply{Outcome: evidence.Refused, From: loopback}), zone: zone.Host, fault: "service-refused"},
	{name: "nothing listens at this machine's address", change: own("172.27.40.23:9", Own,
		evidence.Reply{Outcome: evidence.Refused, From: Own}), zone: zone.Host, fault: "service-refused"},
	{name: "nothing listens on localhost, which needs no name server", change: own("localhost:9", loopback,
		evidence.Reply{Outcome: evidence.Refused, From: loopback}), zone: zone.Host, fault: "service-refused"},
	{name: "this machine's own service is filtered", change: own("127.0.0.1:9", loopback, Silence()), zone: zone.Host},
	{name: "uplink down", change: func(s *evidence.Set) {
		CutAfter(s, Gateway)
	}, zone: zone.Beyond, fault: "uplink-down", confidence: verdict.Certain, cleared: []string{"gateway-silent", "segment-isolated"}},
	{name: "uplink down, and the gateway says so with its outer address", change: func(s *evidence.Set) {
		GatewayGone(s)
		s.Neighbours[0].Reply, s.Echoes[0].Reply = Answer(Gateway, 0.4), Answer(Gateway, 0.4)
		s.Connects[0].Reply = Said(netip.MustParseAddr("198.51.100.2"), evidence.NoHost, 1)
	}, zone: zone.Beyond, fault: "uplink-down", confidence: verdict.Certain, cleared: []string{"gateway-silent"}},
	{name: "path stops", change: func(s *evidence.Set) {
		CutAfter(s, Gateway, Edge, Provider)
	}, zone: zone.Beyond, fault: "path-stops", confidence: verdict.Certain, says: "198.51.100.9, hop 3",
		cleared: []string{"uplink-down"}, possible: []string{"resolver-silent", "destination-silent"}},
	{name: "one target alone cannot tell a cut path from a dead host", change: func(s *evidence.Set) {
		CutAfter(s, Gateway, Edge)
		s.Hops = Path(Bookings, Gateway, Edge, netip.Addr{}, netip.Addr{})
		s.Endpoint.Resolvers = s.Endpoint.Resolvers[:1]
		s.Lookups = s.Lookups[:1]
	}, zone: zone.Beyond, confidence: verdict.Maybe, possible: []string{"path-stops", "destination-silent"},
		cleared: []string{"uplink-down"}},
	{name: "routing loop", change: func(s *evidence.Set) {
		CutAfter(s, Gateway, Edge, Provider)
		s.Hops = slices.Concat(Path(Bookings, Gateway, Edge, Provider, Edge, Provider, Edge), Path(NS, Gateway, Edge, Provider, Edge))
	}, zone: zone.Beyond, fault: "routing-loop", confidence: verdict.Certain, says: "198.51.100.1", cleared: []string{"path-stops"}},
	{name: "unreachable", change: func(s *evidence.Set) {
		Alone(s, Said(Exchange, evidence.NoHost, 4))
	}, zone: zone.Beyond, fault: "destination-unreachable", confidence: verdict.Certain, says: "198.51.100.13",
		cleared: []string{"uplink-down", "path-stops"}},
	{name: "prohibited", change: func(s *evidence.Set) {
		Alone(s, Said(Edge, evidence.Prohibited, 2))
	}, zone: zone.Beyond, fault: "prohibited-by-policy", confidence: verdict.Certain, says: "198.51.100.1"},
	{name: "a filter that plays a closed port", change: func(s *evidence.Set) {
		Alone(s, Said(Edge, evidence.NoPort, 2))
	}, zone: zone.Beyond, fault: "prohibited-by-policy", confidence: verdict.Likely},
	{name: "silent target, others answer", change: func(s *evidence.Set) {
		Alone(s, Silence())
	}, zone: zone.Beyond, fault: "destination-silent", confidence: verdict.Likely, says: "after 198.51.100.13, hop 4",
		cleared: []string{"path-stops", "service-refused"}},
	{name: "refused", change: func(s *evidence.Set) {
		s.Connects[0].Reply = evidence.Reply{Outcome: evidence.Refused, From: Bookings, RTT: 20 * time.Millisecond}
	}, zone: zone.Beyond, fault: "service-refused", confidence: verdict.Certain,
		cleared: []string{"service-filtered", "destination-unreachable", "routing-loop"}},
	{name: "refused by a neighbour lies in the local subnet", change: func(s *evidence.Set) {
		OnSegment(s)
		s.Connects[0].Reply = evidence.Reply{Outcome: evidence.Refused, From: Core, RTT: time.Millisecond}
	}, zone: zone.LocalSubnet, fault: "service-refused"},
	{name: "filtered", change: Unserved, zone: zone.Beyond, fault: "service-filtered", confidence: verdict.Certain,
		cleared: []string{"service-refused", "path-stops"}},
	{name: "servers fail because they are cut off", change: func(s *evidence.Set) {
		Unnamed(s, AnsweredBy("SERVFAIL"))
		s.Endpoint.Resolvers, s.Lookups = s.Endpoint.Resolvers[:1], s.Lookups[:1]
		s.Hops = Path(NS, Gateway, netip.Addr{}, netip.Addr{})
	}, zone: zone.Beyond, fault: "uplink-down", possible: []string{"name-server-failing"}},
	{name: "a forwarder that lives, and nothing behind the gateway", change: func(s *evidence.Set) {
		forwarder(s)
		s.Hops = Path(evidence.Unassigned, Gateway, netip.Addr{}, netip.Addr{})
	}, zone: zone.Beyond, fault: "uplink-down", confidence: verdict.Likely, cleared: []string{"gateway-silent"},
		possible: []string{"name-server-failing"}},
	{name: "silence from nowhere proves nothing", change: func(s *evidence.Set) {
		s.Hops = append(s.Hops, Path(evidence.Unassigned, Gateway, netip.Addr{}, netip.Addr{})...)
	}, zone: zone.None, cleared: []string{"uplink-down", "path-stops"}},
	{name: "a neighbour that is off, under a mask that is right", change: func(s *evidence.Set) {
		wide(s)
		Interface(s).Addresses[0].Origin = endpoint.ByHand
		s.Discovery.Offers = []evidence.Offer{Offer(16)}
		s.Handoffs = []evidence.Handoff{{To: ledger, By: Gateway, HopLimit: 64, Reply: Silence()}}
	}, zone: zone.LocalSubnet, fault: "destination-silent", cleared: []string{"mask-too-wide"}},
	{name: "the same, asked again while the system gives up on its hardware address", change: func(s *evidence.Set) {
		wide(s)
		Interface(s).Addresses[0].Origin = endpoint.ByHand
		s.Discovery.Offers = []evidence.Offer{Offer(16)}
		s.Handoffs = []evidence.Handoff{{To: ledger, By: Gateway, HopLimit: 64, Reply: Silence()}}
		s.Connects[0].Reply = evidence.Reply{Outcome: evidence.LocalError, Reason: evidence.NoNextHop}
	}, zone: zone.LocalSubnet, fault: "destination-silent", cleared: []string{"mask-too-wide"}},
	{name: "the hosts file, and DNS is no better", change: func(s *evidence.Set) { inHosts(s, Silence()) }, zone: zone.Beyond,
		fault: "destination-silent", cleared: []string{"hosts-file-override"}},
	{name: "neither answer works", change: func(s *evidence.Set) { differs(s, Silence()) }, zone: zone.Beyond,
		fault: "destination-silent", cleared: []string{"name-answers-differ"}},
	{name: "a portal says that it need not", change: and(behind, portal(evidence.CaptiveNo, evidence.Answered)), zone: zone.Beyond,
		fault: "uplink-down", cleared: []string{"captive-portal"}},
	{name: "a portal that keeps silent explains nothing", change: and(behind, portal(evidence.CaptivityNotSaid, evidence.Silent)),
		zone: zone.Beyond, fault: "uplink-down", possible: []string{"captive-portal"}},
	{name: "nothing arrives there", change: arrived(0, true, 0), zone: zone.Beyond, fault: "destination-silent",
		cleared: []string{"return-path-missing"}},
	{name: "the responder answers, and the service does not", change: arrived(5, true, 5), zone: zone.Beyond,
		fault: "destination-silent", cleared: []string{"return-path-missing"}},
	{name: "the responder cannot be asked", change: arrived(0, false, 0), zone: zone.Beyond, fault: "destination-silent",
		possible: []string{"return-path-missing"}},
	{name: "neither the proxy nor the service", change: and(byProxy(0, Silence()), behind, func(s *evidence.Set) { s.Webs = s.Webs[1:] }),
		zone: zone.Beyond, fault: "uplink-down", possible: []string{"proxy-in-the-way"}},
}
