package fault_test

import (
	"net/netip"
	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	. "passepartout/internal/core/evidence/evidencetest"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/zone"
)

var namesCases = []testCase{
	{name: "no such name", change: func(s *evidence.Set) { Unnamed(s, AnsweredBy("NXDOMAIN")) }, zone: zone.Beyond,
		fault: "name-not-found", confidence: verdict.Certain, says: "bookings.kittiwake.example"},
	{name: "a name without an address", change: func(s *evidence.Set) { Unnamed(s, AnsweredBy("NOERROR")) }, zone: zone.Beyond,
		fault: "name-not-found"},
	{name: "no such name, one server silent", change: func(s *evidence.Set) {
		Unnamed(s, AnsweredBy("NXDOMAIN"))
		s.Lookups[0].Reply = Silence()
	}, zone: zone.Beyond, fault: "name-not-found", confidence: verdict.Likely, also: []string{"resolver-silent-local"}},
	{name: "the name as it stands was not answered for, and completed it does not exist", change: func(s *evidence.Set) {
		Unnamed(s, AnsweredBy("NXDOMAIN"))
		for i := range s.Lookups {
			x := s.Lookups[i]
			x.Name, x.RCode, x.Reply = "bookings.kittiwake.example", "", Silence()
			s.Lookups = append(s.Lookups, x)
			s.Lookups[i].Name = "bookings.kittiwake.example.kittiwake.example"
		}
	}, zone: zone.Beyond, fault: "name-server-failing", possible: []string{"name-not-found"}},
	{name: "blocked by the name server on the segment", change: blocked("0.0.0.0"), zone: zone.LocalSubnet, fault: "name-filtered",
		confidence: verdict.Certain, says: "172.27.40.2 blocks", cleared: []string{"name-not-found"}},
	{name: "loopback in place of the name's address", change: blocked("127.0.0.1"), zone: zone.LocalSubnet, fault: "name-filtered",
		confidence: verdict.Likely},
	{name: "blocked by the hosts file", change: func(s *evidence.Set) {
		blocked("0.0.0.0")(s)
		s.Endpoint.Hosts = []endpoint.HostsLine{{Address: netip.IPv4Unspecified(), Names: []string{"bookings.kittiwake.example"}}}
	}, zone: zone.Host, fault: "hosts-file-override", confidence: verdict.Certain, says: "blocks"},
	{name: "servers fail", change: func(s *evidence.Set) { Unnamed(s, AnsweredBy("SERVFAIL")) }, zone: zone.Beyond,
		fault: "name-server-failing"},
	{name: "the only server is beyond, there, and closed", change: func(s *evidence.Set) {
		s.Endpoint.Resolvers = s.Endpoint.Resolvers[1:]
		Unnamed(s, func(server netip.Addr) evidence.Lookup {
			return evidence.Lookup{Reply: evidence.Reply{Outcome: evidence.Refused, From: server, Why: evidence.NoPort}}
		})
	}, zone: zone.Beyond, fault: "resolver-silent", confidence: verdict.Certain,
		cleared: []string{"resolver-silent-local", "uplink-down"}},
	{name: "the only server is beyond and gone, routers answer", change: func(s *evidence.Set) {
		s.Endpoint.Resolvers = s.Endpoint.Resolvers[1:]
		Unnamed(s, Unanswered)
		s.Hops = Path(NS, Gateway, Edge, Provider, Exchange, netip.Addr{})
	}, zone: zone.Beyond, fault: "resolver-silent", confidence: verdict.Likely},
	{name: "a forwarder that lives, and routers behind the gateway", change: func(s *evidence.Set) {
		forwarder(s)
		s.Hops = Path(evidence.Unassigned, Gateway, Edge, netip.Addr{})
	}, zone: zone.Beyond, fault: "name-server-failing", cleared: []string{"uplink-down", "resolver-silent-local"}},
	{name: "a stub that fails because the server behind it is silent", change: func(s *evidence.Set) {
		stub(s, "SERVFAIL", false)
		s.Connects, s.Routes = nil, nil
	}, zone: zone.Beyond, fault: "resolver-silent", says: "203.0.113.53", possible: []string{"name-server-failing"}},
	{name: "no IPv6 address, and the question about IPv4 lost", change: func(s *evidence.Set) {
		Unnamed(s, Unanswered)
		for _, server := range []netip.Addr{Core, NS} {
			s.Lookups = append(s.Lookups,
				evidence.Lookup{Server: server, Name: s.Target.Name, Type: "AAAA", RCode: "NOERROR", Reply: Answer(server, 1)})
		}
	}, zone: zone.Beyond, fault: "name-server-failing", possible: []string{"name-not-found"}},
	{name: "the hosts file leads nowhere", change: func(s *evidence.Set) { inHosts(s, Answer(Bookings, 20)) }, zone: zone.Host,
		fault: "hosts-file-override", confidence: verdict.Certain, says: "203.0.113.18", next: "/etc/hosts",
		possible: []string{"destination-silent"}},
	{name: "the hosts file works", change: func(s *evidence.Set) {
		s.Endpoint.Hosts = []endpoint.HostsLine{{Address: Bookings, Names: []string{"bookings.kittiwake.example"}}}
	}, zone: zone.None, cleared: []string{"hosts-file-override"}},
	{name: "the first server's answer leads nowhere", change: func(s *evidence.Set) { differs(s, Answer(Bookings, 20)) },
		zone: zone.LocalSubnet, fault: "name-answers-differ", confidence: verdict.Certain, says: "203.0.113.53 says 203.0.113.80",
		possible: []string{"destination-silent"}},
	{name: "the first server lies beyond", change: func(s *evidence.Set) {
		differs(s, Answer(Bookings, 20))
		s.Endpoint.Resolvers[0], s.Endpoint.Resolvers[1] = s.Endpoint.Resolvers[1], s.Endpoint.Resolvers[0]
		s.Lookups[0].Addresses, s.Lookups[1].Addresses = []netip.Addr{Bookings}, []netip.Addr{wrong}
	}, zone: zone.Beyond, fault: "name-answers-differ"},
	{name: "they differ, and the one in use works", change: func(s *evidence.Set) { s.Lookups[1].Addresses = []netip.Addr{wrong} },
		zone: zone.None, cleared: []string{"name-answers-differ"}},
	{name: "the first server denies the name", change: func(s *evidence.Set) {
		s.Lookups[0].Addresses, s.Lookups[0].RCode = nil, "NXDOMAIN"
	}, zone: zone.LocalSubnet, fault: "name-answers-differ", says: "there is no such name", cleared: []string{"name-not-found"}},
	{name: "set by hand to a machine that is none", change: func(s *evidence.Set) { handSet(s, Core) }, zone: zone.Host,
		fault: "resolver-wrong", confidence: verdict.Certain, says: "runs no name service", next: "172.27.40.2",
		cleared: []string{"resolver-silent-local"}},
	{name: "the site sheet names another", change: func(s *evidence.Set) {
		handSet(s, Core)
		s.Discovery.Offers, s.Sheet = nil, pier()
	}, zone: zone.Host, fault: "resolver-wrong", says: "the site sheet names"},
}
