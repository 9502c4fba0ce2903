package fault_test

import (
	"net/netip"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	. "passepartout/internal/core/evidence/evidencetest"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/zone"
)

var (
	translator6 = netip.MustParseAddr("2001:db8:113::64")
	cargo6      = netip.MustParseAddr("64:ff9b::cb00:715a")
)

// translated makes the machine one of IPv6 alone, whose target is a translator's address.
func translated(s *evidence.Set, target netip.Addr) {
	own, gateway := netip.MustParseAddr("2001:db8:40::23"), netip.MustParseAddr("2001:db8:40::1")
	Interface(s).Addresses = []endpoint.Address{{Prefix: netip.PrefixFrom(own, 64), Scope: endpoint.ScopeGlobal}}
	s.Endpoint.Routes = []endpoint.Route{{To: netip.MustParsePrefix("::/0"), Via: gateway, Interface: "eth0", Table: 254,
		Verdict: endpoint.Forward}}
	server := netip.MustParseAddr("2001:db8:113::53")
	s.Endpoint.Resolvers = []endpoint.Resolver{{Address: server}}
	s.Routes = []endpoint.RouteAnswer{{To: target, Verdict: endpoint.Forward, Interface: "eth0", Via: gateway, Source: own}}
	s.Neighbours = []evidence.Neighbour{{Asked: gateway, Method: "nd", Asks: 1, Hardware: []endpoint.HardwareAddr{{2, 0, 0, 0, 0, 1}},
		Reply: Answer(gateway, 0.4)}}
	s.Conflicts[0].Address = own
	s.Echoes = []evidence.Echo{{Asked: gateway, Method: "icmp", Reply: Answer(gateway, 0.4)},
		{Asked: target, Method: "icmp", Reply: Silence()}}
	s.Connects = []evidence.Connect{{To: netip.AddrPortFrom(target, 443), Reply: Silence()}}
	s.Lookups = []evidence.Lookup{{Server: server, Name: "bookings.kittiwake.example", Type: "AAAA", RCode: "NOERROR",
		Addresses: []netip.Addr{target}, Asks: 1, Reply: Answer(server, 20)}}
	s.Hops = append(Path(target, netip.MustParseAddr("2001:db8:1::2"), translator6, netip.Addr{}),
		Path(server, netip.MustParseAddr("2001:db8:1::2"), server)...)
	s.Discovery = nil
}

var translatorCases = []testCase{
	{name: "nothing comes through the translator", change: func(s *evidence.Set) { translated(s, cargo6) }, zone: zone.Beyond,
		fault: "translator-silent", confidence: verdict.Likely, says: "64:ff9b::/96", next: "NAT64"},
	{name: "a translator with a prefix of its own, which the name server shows", change: func(s *evidence.Set) {
		translated(s, netip.MustParseAddr("2001:db8:64::cb00:715a"))
		s.Lookups = append(s.Lookups, evidence.Lookup{Server: s.Lookups[0].Server, Name: "ipv4only.arpa", Type: evidence.DNS64,
			RCode: "NOERROR", Addresses: []netip.Addr{netip.MustParseAddr("2001:db8:64::c000:aa")}, Reply: Answer(s.Lookups[0].Server, 20)})
	}, zone: zone.Beyond, fault: "translator-silent", says: "2001:db8:64::/96"},
	{name: "a router behind the translator answers", change: func(s *evidence.Set) {
		translated(s, cargo6)
		s.Hops = append(Path(cargo6, netip.MustParseAddr("2001:db8:1::2"), translator6, netip.MustParseAddr("64:ff9b::c633:6401"),
			netip.Addr{}), s.Hops[3:]...)
	}, zone: zone.Beyond, fault: "destination-silent", cleared: []string{"translator-silent"}},
	{name: "a router says that it knows no way to the translator", change: func(s *evidence.Set) {
		translated(s, cargo6)
		s.Connects[0].Reply = Said(translator6, evidence.NoNet, 3)
	}, zone: zone.Beyond, fault: "translator-silent", says: "Nothing comes through"},
	{name: "nothing that has IPv6 answers either", change: func(s *evidence.Set) {
		translated(s, cargo6)
		s.Hops = s.Hops[:3]
		s.Lookups[0].Server = netip.MustParseAddr("2001:db8:40::2")
		s.Lookups[0].Reply = Answer(s.Lookups[0].Server, 1)
		s.Endpoint.Resolvers[0].Address = s.Lookups[0].Server
	}, zone: zone.Beyond, possible: []string{"translator-silent"}},
}
