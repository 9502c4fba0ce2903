package verdict_test

import (
	"net/netip"
	"time"

	"passepartout/internal/core/dhcp"
	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	. "passepartout/internal/core/evidence/evidencetest"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/zone"
)

var (
	stray  = netip.MustParseAddr("172.27.40.66")
	ledger = netip.MustParseAddr("172.27.90.80")
	moved  = netip.MustParseAddr("172.27.40.254")
)

// given are the pier's usual terms.
func given(bits int) dhcp.Terms { return Offer(bits).Terms }

// byStray are those of a router from home.
func byStray() dhcp.Terms {
	return dhcp.Terms{Server: stray, Address: Own, PrefixLength: 24, Routers: []netip.Addr{stray}, Resolvers: []netip.Addr{stray},
		Lease: 12 * time.Hour}
}

// through sends everything by another gateway, which answers ARP and passes nothing on.
func through(s *evidence.Set, gateway netip.Addr) {
	GatewayGone(s)
	s.Endpoint.Routes[0].Via, s.Routes[0].Via = gateway, gateway
	s.Neighbours[0] = evidence.Neighbour{Asked: gateway, Method: "arp", Asks: 1, Hardware: []endpoint.HardwareAddr{{2, 0, 0, 0, 0, 0x66}},
		Reply: Answer(gateway, 0.4)}
	s.Hops = append(s.Hops, Path(Bookings, netip.Addr{}, netip.Addr{})...)
}

// passes is the gateway's word that the hop limit of what was handed to it ran out.
func passes(s *evidence.Set) {
	s.Handoffs = append(s.Handoffs,
		evidence.Handoff{To: Bookings, By: Gateway, HopLimit: 1,
			Reply: evidence.Reply{Outcome: evidence.Expired, From: Gateway, RTT: time.Millisecond}})
}

// wide makes the target an address that a mask of /16 takes for a neighbour, where nobody answers for it.
func wide(s *evidence.Set) {
	Port(s).Addresses[0].Prefix = netip.PrefixFrom(Own, 16)
	s.Target.Name, s.Target.Addr = "", ledger
	s.Routes[0] = endpoint.RouteAnswer{To: ledger, Verdict: endpoint.Forward, Interface: "eth0", Source: Own}
	s.Neighbours = append(s.Neighbours, evidence.Neighbour{Asked: ledger, Method: "arp", Asks: 3, Reply: Silence()})
	s.Connects = []evidence.Connect{{To: netip.AddrPortFrom(ledger, 443), Reply: Silence()}}
	s.Echoes[1] = evidence.Echo{Asked: ledger, Method: "icmp", Reply: Silence()}
	s.Hops = Path(NS, Gateway, Edge, Provider, Exchange, NS)
}

func reached(s *evidence.Set) {
	s.Handoffs = append(s.Handoffs, evidence.Handoff{To: ledger, By: Gateway, HopLimit: 64, Reply: Answer(ledger, 2)})
}

var leaseCases = []testCase{
	{name: "the lease is in order", change: func(s *evidence.Set) { Leased(s, 8*time.Minute, given(24)) }, zone: zone.None,
		confidence: verdict.Certain,
		cleared:    []string{"address-expired", "dhcp-rogue", "dhcp-wrong-options", "dhcp-refuses", "dhcp-silent"}},

	{name: "a refusal", change: func(s *evidence.Set) { noAddress(s); none(s); s.Discovery.Refusals = []netip.Addr{Core} },
		zone: zone.LocalSubnet, fault: "dhcp-refuses", confidence: verdict.Certain, says: "172.27.40.2", next: "02:00:00:00:10:17",
		cleared: []string{"dhcp-silent", "no-address"}},
	{name: "others are served", change: func(s *evidence.Set) { noAddress(s); none(s); s.Discovery.Serving = []netip.Addr{Core} },
		zone: zone.LocalSubnet, fault: "dhcp-refuses", confidence: verdict.Likely, cleared: []string{"dhcp-silent"}},
	{name: "nobody is heard", change: func(s *evidence.Set) { noAddress(s); none(s) }, zone: zone.LocalSubnet, fault: "dhcp-silent",
		cleared: []string{"dhcp-refuses"}},
	{name: "a refusal does not matter to a machine that has an address",
		change: func(s *evidence.Set) { s.Discovery.Refusals = []netip.Addr{Core} }, zone: zone.None, cleared: []string{"dhcp-refuses"}},
	{name: "whether it is refused could not be asked", change: func(s *evidence.Set) { noAddress(s); WithoutFrames(s) },
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
	{name: "the lease has run out, and the gateway is silent whatever it says",
		change: func(s *evidence.Set) { GatewayGone(s); Leased(s, 3*time.Hour, given(24)) }, zone: zone.LocalSubnet,
		fault: "gateway-silent", also: []string{"address-expired"}},
	{name: "the lease has run out, and all works", change: func(s *evidence.Set) { Leased(s, 3*time.Hour, given(24)) }, zone: zone.None,
		also: []string{"address-expired"}, next: "Have the DHCP client"},
	{name: "T2 is past, and all works", change: func(s *evidence.Set) { Leased(s, 55*time.Minute, given(24)) }, zone: zone.None,
		also: []string{"address-expired"}},
	{name: "T1 is past: the client is at it", change: func(s *evidence.Set) { Leased(s, 40*time.Minute, given(24)) }, zone: zone.None,
		cleared: []string{"address-expired"}},
	{name: "the lease has run out, and no server is there to renew it",
		change: func(s *evidence.Set) { Leased(s, 3*time.Hour, given(24)); none(s) }, zone: zone.None, also: []string{"dhcp-silent"},
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
	{name: "two servers disagree, and it is the gateway of both that is silent", change: func(s *evidence.Set) {
		GatewayGone(s)
		t := given(24)
		t.Server, t.Resolvers = stray, []netip.Addr{stray}
		s.Discovery.Offers = append(s.Discovery.Offers, OfferOf(t))
	}, zone: zone.LocalSubnet, fault: "gateway-silent", also: []string{"dhcp-rogue"}},

	{name: "the gateway that the lease names is no router, and another is", change: func(s *evidence.Set) {
		through(s, stray)
		t := given(24)
		t.Routers = []netip.Addr{stray}
		Leased(s, 8*time.Minute, t)
		s.Discovery.Offers = []evidence.Offer{OfferOf(t)}
		passes(s)
	}, zone: zone.LocalSubnet, fault: "dhcp-wrong-options", confidence: verdict.Certain, says: "172.27.40.1 passes traffic on",
		next: "Correct the settings", cleared: []string{"gateway-does-not-forward", "dhcp-rogue"}},
	{name: "the same gateway set by hand is the host's matter", change: func(s *evidence.Set) {
		through(s, stray)
		s.Endpoint.Routes[0].Origin, Port(s).Addresses[0].Origin = endpoint.ByHand, endpoint.ByHand
		passes(s)
	}, zone: zone.Host, fault: "gateway-not-a-router", cleared: []string{"dhcp-wrong-options"}},
	{name: "the leased gateway is silent, and so is every other way",
		change: func(s *evidence.Set) { GatewayGone(s); Leased(s, 8*time.Minute, given(24)) }, zone: zone.LocalSubnet,
		fault: "gateway-silent", cleared: []string{"dhcp-wrong-options"}},
	{name: "the name server that the lease names is none", change: func(s *evidence.Set) {
		nobody := netip.MustParseAddr("172.27.40.9")
		s.Endpoint.Resolvers = []endpoint.Resolver{{Address: nobody}}
		Unnamed(s, unanswered)
		t := given(24)
		t.Resolvers = []netip.Addr{nobody}
		Leased(s, 8*time.Minute, t)
		s.Discovery.Offers = []evidence.Offer{OfferOf(t)}
		s.Neighbours = append(s.Neighbours, evidence.Neighbour{Asked: nobody, Asks: 3, Reply: Silence()})
		s.Elsewhere = []evidence.Lookup{
			{Server: Core, Name: s.Target.Name, Type: "A", RCode: "NOERROR", Addresses: []netip.Addr{Bookings}, Reply: Answer(Core, 1)}}
	}, zone: zone.LocalSubnet, fault: "dhcp-wrong-options", says: "172.27.40.9", cleared: []string{"resolver-silent-local"}},

	{name: "no IPv6 address, and the question about IPv4 lost", change: func(s *evidence.Set) {
		Unnamed(s, unanswered)
		for _, server := range []netip.Addr{Core, NS} {
			s.Lookups = append(s.Lookups,
				evidence.Lookup{Server: server, Name: s.Target.Name, Type: "AAAA", RCode: "NOERROR", Reply: Answer(server, 1)})
		}
	}, zone: zone.Beyond, fault: "name-server-failing", possible: []string{"name-not-found"}},

	{name: "the mask takes in what lies beyond", change: func(s *evidence.Set) {
		wide(s)
		reached(s)
		Port(s).Addresses[0].Origin = endpoint.ByHand
	}, zone: zone.Host, fault: "mask-too-wide", confidence: verdict.Certain, says: "172.27.90.80",
		next: "172.27.40.23/24, mask 255.255.255.0", cleared: []string{"destination-silent"}},
	{name: "the mask came with the lease", change: func(s *evidence.Set) {
		wide(s)
		reached(s)
		Leased(s, 8*time.Minute, given(16))
		s.Discovery.Offers = []evidence.Offer{Offer(16)}
	}, zone: zone.LocalSubnet, fault: "dhcp-wrong-options", says: "172.27.40.23/16", cleared: []string{"mask-too-wide"}},
	{name: "a mask too wide that harms nobody now", change: func(s *evidence.Set) {
		Port(s).Addresses[0] = endpoint.Address{Prefix: netip.PrefixFrom(Own, 16), Origin: endpoint.ByHand}
	}, zone: zone.None, also: []string{"mask-too-wide"}, next: "172.27.40.23/24, mask 255.255.255.0"},
	{name: "a mask too narrow that harms nobody now", change: func(s *evidence.Set) {
		Port(s).Addresses[0] = endpoint.Address{Prefix: netip.PrefixFrom(Own, 27), Origin: endpoint.ByHand}
	}, zone: zone.None, also: []string{"mask-too-narrow"}, next: "172.27.40.23/24, mask 255.255.255.0"},
	{name: "a neighbour that is off, under a mask that is right", change: func(s *evidence.Set) {
		wide(s)
		Port(s).Addresses[0].Origin = endpoint.ByHand
		s.Discovery.Offers = []evidence.Offer{Offer(16)}
		s.Handoffs = []evidence.Handoff{{To: ledger, By: Gateway, HopLimit: 64, Reply: Silence()}}
	}, zone: zone.LocalSubnet, fault: "destination-silent", cleared: []string{"mask-too-wide"}},
	{name: "whether it lies beyond could not be asked", change: func(s *evidence.Set) {
		wide(s)
		Port(s).Addresses[0].Origin = endpoint.ByHand
		s.Neighbours = s.Neighbours[:2]
		WithoutFrames(s)
	}, zone: zone.Undetermined, possible: []string{"mask-too-wide", "destination-silent"}},
}
