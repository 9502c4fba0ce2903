package fault_test

import (
	"net/netip"
	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	. "passepartout/internal/core/evidence/evidencetest"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/zone"
	"time"
)

var segmentCases = []testCase{
	{name: "gateway by hand, to an address that nobody has", change: func(s *evidence.Set) {
		GatewayGone(s)
		wrong := netip.MustParseAddr("172.27.40.11")
		s.Endpoint.Routes[0].Via, s.Routes[0].Via, s.Neighbours[0].Asked = wrong, wrong, wrong
		s.Endpoint.Routes[0].Origin = endpoint.ByHand
	}, zone: zone.Host, fault: "gateway-silent", says: "the segment's router is 172.27.40.1", next: "Set the gateway to 172.27.40.1"},
	{name: "nobody on the segment", change: func(s *evidence.Set) {
		Isolated(s)
	}, zone: zone.LocalSubnet, fault: "segment-isolated", confidence: verdict.Certain, possible: []string{"gateway-silent"},
		cleared: []string{"no-carrier"}},
	{name: "nobody, and who speaks here cannot be heard: the address may be another network's", change: func(s *evidence.Set) {
		Isolated(s)
		WithoutFrames(s)
	}, zone: zone.Undetermined, possible: []string{"segment-isolated", "wrong-network"}},
	{name: "nobody asked yet proves nothing", change: func(s *evidence.Set) {
		Isolated(s)
		s.SweepDone = false
	}, zone: zone.Undetermined, possible: []string{"segment-isolated", "gateway-silent"}},
	{name: "silent gateway", change: GatewayGone, zone: zone.LocalSubnet, fault: "gateway-silent", confidence: verdict.Certain,
		says: "1 neighbour", cleared: []string{"segment-isolated", "no-address"},
		possible: []string{"uplink-down", "gateway-does-not-forward"}},
	{name: "gateway that drops all", change: func(s *evidence.Set) {
		GatewayGone(s)
		s.Neighbours[0] = evidence.Neighbour{Asked: Gateway, Method: "arp", Asks: 1, Reply: Answer(Gateway, 0.4)}
	}, zone: zone.LocalSubnet, fault: "gateway-does-not-forward", confidence: verdict.Likely, cleared: []string{"gateway-silent"}},
	{name: "a kernel's own word is nobody else's", change: func(s *evidence.Set) {
		GatewayGone(s)
		for i := range s.Hops {
			s.Hops[i].Reply = Said(Own, evidence.NoHost, 1)
		}
		s.Connects[0].Reply = Said(Own, evidence.NoHost, 1)
	}, zone: zone.LocalSubnet, fault: "gateway-silent"},
	{name: "the server on the segment is dead, the other has the name", change: func(s *evidence.Set) {
		s.Lookups[0].Reply, s.Lookups[0].Addresses = Silence(), nil
	}, zone: zone.None, also: []string{"resolver-silent-local"}},
	{name: "the only server is on the segment and dead", change: func(s *evidence.Set) {
		s.Endpoint.Resolvers = s.Endpoint.Resolvers[:1]
		Unnamed(s, Unanswered)
	}, zone: zone.LocalSubnet, fault: "resolver-silent-local", cleared: []string{"resolver-silent", "resolver-not-set"}},
	{name: "a stub that is dead, though the servers behind it answer", change: func(s *evidence.Set) {
		stub(s, "", true)
		s.Lookups[0].Reply = evidence.Reply{Outcome: evidence.Refused, From: localStub, Why: evidence.NoPort}
		Unserved(s)
		s.Connects, s.Routes = nil, nil
	}, zone: zone.Host, fault: "local-stub-broken", says: "127.0.0.53", next: "Restart the name service"},
	{name: "the lease has run out, and the gateway is silent whatever it says",
		change: func(s *evidence.Set) { GatewayGone(s); Leased(s, 3*time.Hour, given(24)) }, zone: zone.LocalSubnet,
		fault: "gateway-silent", also: []string{"address-expired"}},
	{name: "two servers disagree, and it is the gateway of both that is silent", change: func(s *evidence.Set) {
		GatewayGone(s)
		t := given(24)
		t.Server, t.Resolvers = stray, []netip.Addr{stray}
		s.Discovery.Offers = append(s.Discovery.Offers, OfferOf(t))
	}, zone: zone.LocalSubnet, fault: "gateway-silent", also: []string{"dhcp-rogue"}},
	{name: "the leased gateway is silent, and so is every other way",
		change: func(s *evidence.Set) { GatewayGone(s); Leased(s, 8*time.Minute, given(24)) }, zone: zone.LocalSubnet,
		fault: "gateway-silent", cleared: []string{"dhcp-wrong-options"}},
	{name: "set by hand, and nobody names a better one that answers", change: func(s *evidence.Set) { handSet(s, netip.Addr{}) },
		zone: zone.LocalSubnet, fault: "resolver-silent-local", possible: []string{"resolver-wrong"}},
	{name: "the network itself names the dead one", change: func(s *evidence.Set) {
		handSet(s, netip.Addr{})
		s.Discovery.Offers[0].Resolvers = []netip.Addr{board}
	}, zone: zone.LocalSubnet, fault: "resolver-silent-local", cleared: []string{"resolver-wrong"}},
	{name: "the sheet has another gateway", change: func(s *evidence.Set) {
		GatewayGone(s)
		s.Discovery.Offers, s.Sheet = nil, pier()
		s.Sheet.Networks[0].Gateways = []netip.Addr{moved}
		for i := range s.Endpoint.Routes {
			s.Endpoint.Routes[i].Origin = endpoint.ByHand
		}
	}, zone: zone.Host, fault: "gateway-silent", says: "172.27.40.254"},
	{name: "nobody names another", change: func(s *evidence.Set) {
		Cut(s)
		s.Discovery.Offers = nil
		s.Endpoint.Routes[0].Origin = endpoint.ByHand
	}, zone: zone.LocalSubnet, fault: "gateway-does-not-forward", cleared: []string{"gateway-not-a-router"}},
}
