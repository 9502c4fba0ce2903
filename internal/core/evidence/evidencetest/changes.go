package evidencetest

import (
	"net/netip"
	"slices"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/target"
)

// OnSegment asks for a target on the segment.
func OnSegment(s *evidence.Set) {
	s.Target, _ = target.Parse("172.27.40.2:443")
	s.Routes = []endpoint.RouteAnswer{{To: Core, Verdict: endpoint.Forward, Interface: "eth0", Source: Own}}
	s.Connects = []evidence.Connect{{To: netip.AddrPortFrom(Core, 443), Reply: Answer(Core, 1)}}
	s.Hops = nil
}

// Isolated lets nobody on the segment answer.
func Isolated(s *evidence.Set) {
	GatewayGone(s)
	NobodyOffers(s)
	s.Neighbours[1].Reply, s.Neighbours[1].Hardware = Silence(), nil
	Unnamed(s, Unanswered)
	s.Swept, s.SweepDone = 253, true
}

// CutAfter lets every path end after these hops, for good.
func CutAfter(s *evidence.Set, hops ...netip.Addr) {
	GatewayGone(s)
	s.Neighbours[0].Reply, s.Echoes[0].Reply = Answer(Gateway, 0.4), Answer(Gateway, 0.4)
	silent := append(slices.Clone(hops), netip.Addr{}, netip.Addr{})
	s.Hops = slices.Concat(Path(Bookings, silent...), Path(NS, silent...))
}

// Alone lets the target alone answer so, everybody else being well.
func Alone(s *evidence.Set, r evidence.Reply) {
	s.Connects[0].Reply = r
	s.Echoes[1].Reply = Silence()
	s.Hops = slices.Concat(Path(Bookings, Gateway, Edge, Provider, Exchange, netip.Addr{}), Path(NS, Gateway, Edge, Provider, Exchange, NS))
}

// NobodyOffers lets no DHCP server answer.
func NobodyOffers(s *evidence.Set) { s.Discovery.Offers, s.Discovery.Discovers = nil, 3 }

// Unanswered is a look-up without an answer.
func Unanswered(netip.Addr) evidence.Lookup { return evidence.Lookup{Asks: 3, Reply: Silence()} }

// NoAddress leaves the port without an address, and with nothing that came of one.
func NoAddress(s *evidence.Set) {
	Interface(s).Addresses = nil
	s.Endpoint.Routes, s.Endpoint.Resolvers = nil, nil
	s.Routes, s.Neighbours, s.Lookups, s.Connects, s.Hops, s.Echoes, s.Conflicts = nil, nil, nil, nil, nil, nil, nil
}

// ByAddress asks for the target by its address.
func ByAddress(s *evidence.Set) { s.Target, _ = target.Parse("203.0.113.80:443") }

// AnsweredBy is a look-up that a server answers so.
func AnsweredBy(code string, addrs ...netip.Addr) func(netip.Addr) evidence.Lookup {
	return func(server netip.Addr) evidence.Lookup {
		return evidence.Lookup{RCode: code, Addresses: addrs, Reply: Answer(server, 1)}
	}
}

// Beside adds a second port with an address, a default route of that metric, and what comes of trying the target out of it.
func Beside(s *evidence.Set, name string, kind endpoint.Kind, metric int, r evidence.Reply) {
	s.Endpoint.Interfaces = append(s.Endpoint.Interfaces,
		endpoint.Interface{Index: 9, Name: name, Kind: kind, Up: true, Carrier: endpoint.CarrierPresent,
			Addresses: []endpoint.Address{{Prefix: netip.MustParsePrefix("192.168.77.20/24"), Scope: endpoint.ScopeGlobal}}})
	via := netip.MustParseAddr("192.168.77.1")
	s.Endpoint.Routes[0].Metric = 200
	s.Endpoint.Routes = append(s.Endpoint.Routes,
		endpoint.Route{To: netip.MustParsePrefix("0.0.0.0/0"), Via: via, Interface: name, Table: 254, Metric: metric,
			Verdict: endpoint.Forward})
	s.Routes[0].Interface, s.Routes[0].Via = name, via
	Cut(s)
	s.OtherWays = []evidence.OtherWay{{Interface: "eth0", To: netip.AddrPortFrom(Bookings, 443), Reply: r}}
}

// Cut lets nothing come back through the gateway, which answers on the segment.
func Cut(s *evidence.Set) {
	s.Hops = slices.Concat(Path(Bookings, netip.Addr{}, netip.Addr{}), Path(NS, netip.Addr{}, netip.Addr{}))
	for i := range s.Echoes {
		s.Echoes[i].Reply = Silence()
	}
	Unserved(s)
	s.Lookups[1] = evidence.Lookup{Server: NS, Name: "bookings.kittiwake.example", Type: "A", Asks: 3, Reply: Silence()}
}
