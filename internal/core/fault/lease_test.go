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

var leaseCases = []testCase{
	{name: "the lease is in order", change: func(s *evidence.Set) { Leased(s, 8*time.Minute, given(24)) }, zone: zone.None,
		confidence: verdict.Certain,
		cleared:    []string{"address-expired", "dhcp-rogue", "dhcp-wrong-options", "dhcp-refuses", "dhcp-silent"}},
	{name: "a refusal", change: func(s *evidence.Set) { NoAddress(s); NobodyOffers(s); s.Discovery.Refusals = []netip.Addr{Core} },
		zone: zone.LocalSubnet, fault: "dhcp-refuses", confidence: verdict.Certain, says: "172.27.40.2", next: "02:00:00:00:10:17",
		cleared: []string{"dhcp-silent", "no-address"}},
	{name: "others are served", change: func(s *evidence.Set) { NoAddress(s); NobodyOffers(s); s.Discovery.Serving = []netip.Addr{Core} },
		zone: zone.LocalSubnet, fault: "dhcp-refuses", confidence: verdict.Likely, cleared: []string{"dhcp-silent"}},
	{name: "a refusal does not matter to a machine that has an address",
		change: func(s *evidence.Set) { s.Discovery.Refusals = []netip.Addr{Core} }, zone: zone.None, cleared: []string{"dhcp-refuses"}},
	{name: "whether it is refused could not be asked", change: func(s *evidence.Set) { NoAddress(s); WithoutFrames(s) },
		zone: zone.Undetermined, possible: []string{"dhcp-refuses", "dhcp-silent", "no-address"}},
	{name: "the lease has run out and the gateway has changed", change: func(s *evidence.Set) {
		GatewayGone(s)
		Leased(s, 3*time.Hour, given(24))
		t := given(24)
		t.Routers = []netip.Addr{moved}
		s.Discovery.Offers = []evidence.Offer{OfferOf(t)}
	}, zone: zone.Host, fault: "address-expired", confidence: verdict.Certain, says: "172.27.40.23", next: "172.27.40.254",
		cleared: []string{"dhcp-silent"}, possible: []string{"gateway-silent"}},
	{name: "the lease has run out and the network has changed", change: func(s *evidence.Set) {
		GatewayGone(s)
		Leased(s, 3*time.Hour, given(24))
		t := given(24)
		t.Address, t.Routers = netip.MustParseAddr("172.27.60.23"), []netip.Addr{netip.MustParseAddr("172.27.60.1")}
		s.Discovery.Offers = []evidence.Offer{OfferOf(t)}
	}, zone: zone.Host, fault: "address-expired", cleared: []string{"wrong-network"}},
	{name: "the lease has run out and somebody else has the address", change: func(s *evidence.Set) {
		Leased(s, 3*time.Hour, given(24))
		Unserved(s)
		s.Conflicts[0] = evidence.Conflict{Address: Own, Hardware: endpoint.HardwareAddr{2, 9}, Reply: Answer(Own, 1)}
	}, zone: zone.Host, fault: "address-expired", also: []string{"address-conflict", "service-filtered"}},
	{name: "the lease has run out, and all works", change: func(s *evidence.Set) { Leased(s, 3*time.Hour, given(24)) }, zone: zone.None,
		also: []string{"address-expired"}, next: "Have the DHCP client"},
	{name: "T2 is past, and all works", change: func(s *evidence.Set) { Leased(s, 55*time.Minute, given(24)) }, zone: zone.None,
		also: []string{"address-expired"}},
	{name: "T1 is past: the client is at it", change: func(s *evidence.Set) { Leased(s, 40*time.Minute, given(24)) }, zone: zone.None,
		cleared: []string{"address-expired"}},
	{name: "the lease has run out, and servers could not be asked",
		change: func(s *evidence.Set) { GatewayGone(s); Leased(s, 3*time.Hour, given(24)); WithoutFrames(s) }, zone: zone.Undetermined,
		possible: []string{"address-expired", "gateway-silent"}},
	{name: "two servers, and the one that is followed leads astray", change: func(s *evidence.Set) {
		through(s, stray)
		Leased(s, 8*time.Minute, byStray())
		s.Discovery.Offers = append(s.Discovery.Offers, OfferOf(byStray()))
	}, zone: zone.LocalSubnet, fault: "dhcp-rogue", confidence: verdict.Certain, says: "172.27.40.66", next: "Unplug 172.27.40.66",
		cleared: []string{"gateway-does-not-forward", "gateway-silent"}},
	{name: "two servers that disagree, and all works",
		change: func(s *evidence.Set) { s.Discovery.Offers = append(s.Discovery.Offers, OfferOf(byStray())) }, zone: zone.None,
		also: []string{"dhcp-rogue"}},
	{name: "two servers that give the same", change: func(s *evidence.Set) {
		t := given(24)
		t.Server, t.Domain, t.Lease = stray, "pier.example", time.Minute
		s.Discovery.Offers = append(s.Discovery.Offers, OfferOf(t))
	}, zone: zone.None, cleared: []string{"dhcp-rogue"}},
	{name: "the gateway that the lease names is no router, and another is", change: func(s *evidence.Set) {
		through(s, stray)
		t := given(24)
		t.Routers = []netip.Addr{stray}
		Leased(s, 8*time.Minute, t)
		s.Discovery.Offers = []evidence.Offer{OfferOf(t)}
		passes(s)
	}, zone: zone.LocalSubnet, fault: "dhcp-wrong-options", confidence: verdict.Certain, says: "172.27.40.1 passes traffic on",
		next: "Correct the settings", cleared: []string{"gateway-does-not-forward", "dhcp-rogue"}},
	{name: "the name server that the lease names is none", change: func(s *evidence.Set) {
		nobody := netip.MustParseAddr("172.27.40.9")
		s.Endpoint.Resolvers = []endpoint.Resolver{{Address: nobody}}
		Unnamed(s, Unanswered)
		t := given(24)
		t.Resolvers = []netip.Addr{nobody}
		Leased(s, 8*time.Minute, t)
		s.Discovery.Offers = []evidence.Offer{OfferOf(t)}
		s.Neighbours = append(s.Neighbours, evidence.Neighbour{Asked: nobody, Asks: 3, Reply: Silence()})
		s.Elsewhere = []evidence.Lookup{
			{Server: Core, Name: s.Target.Name, Type: "A", RCode: "NOERROR", Addresses: []netip.Addr{Bookings}, Reply: Answer(Core, 1)}}
	}, zone: zone.LocalSubnet, fault: "dhcp-wrong-options", says: "172.27.40.9", cleared: []string{"resolver-silent-local"}},
	{name: "the mask takes in what lies beyond", change: func(s *evidence.Set) {
		wide(s)
		reached(s)
		Interface(s).Addresses[0].Origin = endpoint.ByHand
	}, zone: zone.Host, fault: "mask-too-wide", confidence: verdict.Certain, says: "172.27.90.80",
		next: "172.27.40.23/24, mask 255.255.255.0", cleared: []string{"destination-silent"}},
	{name: "the mask came with the lease", change: func(s *evidence.Set) {
		wide(s)
		reached(s)
		Leased(s, 8*time.Minute, given(16))
		s.Discovery.Offers = []evidence.Offer{Offer(16)}
	}, zone: zone.LocalSubnet, fault: "dhcp-wrong-options", says: "172.27.40.23/16", cleared: []string{"mask-too-wide"}},
	{name: "a mask too wide that harms nobody now", change: func(s *evidence.Set) {
		Interface(s).Addresses[0] = endpoint.Address{Prefix: netip.PrefixFrom(Own, 16), Origin: endpoint.ByHand}
	}, zone: zone.None, also: []string{"mask-too-wide"}, next: "172.27.40.23/24, mask 255.255.255.0"},
	{name: "whether it lies beyond could not be asked", change: func(s *evidence.Set) {
		wide(s)
		Interface(s).Addresses[0].Origin = endpoint.ByHand
		s.Neighbours = s.Neighbours[:2]
		WithoutFrames(s)
	}, zone: zone.Undetermined, possible: []string{"mask-too-wide", "destination-silent"}},
	{name: "a DHCP server that is not documented",
		change: func(s *evidence.Set) { s.Sheet = pier(); s.Sheet.Networks[0].DHCP = []netip.Addr{board} }, zone: zone.None,
		also: []string{"dhcp-rogue"}},
	{name: "the sheet has a longer mask", change: func(s *evidence.Set) {
		wide(s)
		s.Discovery.Offers, s.Sheet = nil, pier()
		Interface(s).Addresses[0].Origin, Interface(s).Addresses[0].Limited = endpoint.ByHand, false
	}, zone: zone.Host, fault: "mask-too-wide", says: "172.27.90.80", next: "255.255.255.0"},
}
