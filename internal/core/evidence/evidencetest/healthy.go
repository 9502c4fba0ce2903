// Package evidencetest makes sets of evidence for tests: a healthy case at the demonstration site, and small changes to it.
package evidencetest

import (
	"net/netip"
	"slices"
	"time"

	"passepartout/internal/core/dhcp"
	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/lease"
	"passepartout/internal/core/target"
)

// The addresses of the demonstration site.
var (
	Own      = netip.MustParseAddr("172.27.40.23")
	Gateway  = netip.MustParseAddr("172.27.40.1")
	Core     = netip.MustParseAddr("172.27.40.2") // DHCP and DNS
	Edge     = netip.MustParseAddr("198.51.100.1")
	Provider = netip.MustParseAddr("198.51.100.9")
	Exchange = netip.MustParseAddr("198.51.100.13")
	NS       = netip.MustParseAddr("203.0.113.53")
	Bookings = netip.MustParseAddr("203.0.113.80")
)

// Answer is a reply that came after so many milliseconds.
func Answer(from netip.Addr, ms float64) evidence.Reply {
	return evidence.Reply{Outcome: evidence.Answered, From: from, RTT: time.Duration(ms * 1e6), HopLimitLeft: 60}
}

// Silence is no reply within 1.6 s.
func Silence() evidence.Reply {
	return evidence.Reply{Outcome: evidence.Silent, Waited: 1600 * time.Millisecond}
}

// Said is an ICMP error by a sender so many hops away.
func Said(from netip.Addr, why evidence.Why, hops int) evidence.Reply {
	return evidence.Reply{Outcome: evidence.Unreachable, From: from, Why: why, ICMPType: 3, ICMPCode: 1, RTT: 5 * time.Millisecond,
		HopLimitLeft: 65 - hops}
}

// Healthy is everything that was gathered at a counter from which the booking service is reached.
func Healthy() *evidence.Set {
	want, err := target.Parse("bookings.kittiwake.example:443")
	if err != nil {
		panic(err)
	}
	eth0 := endpoint.Interface{Index: 2, Name: "eth0", Kind: endpoint.Wired, Up: true, Carrier: endpoint.CarrierPresent, SpeedMbit: 1000,
		Duplex: endpoint.FullDuplex, MTU: 1500,
		Hardware: endpoint.HardwareAddr{2, 0, 0, 0, 0x10, 0x17}, Driver: "made-up",
		Addresses: []endpoint.Address{
			{Prefix: netip.PrefixFrom(Own, 24), Scope: endpoint.ScopeGlobal, Origin: endpoint.ByDHCP, Limited: true,
				Valid: 52 * time.Minute}}}
	lo := endpoint.Interface{Index: 1, Name: "lo", Kind: endpoint.LoopbackKind, Up: true, Carrier: endpoint.CarrierPresent,
		Addresses: []endpoint.Address{{Prefix: netip.MustParsePrefix("127.0.0.1/8")}}}
	s := &evidence.Set{
		Target: want, Interface: "eth0",
		Endpoint: &endpoint.Endpoint{Host: "ticket-03", Interfaces: []endpoint.Interface{lo, eth0}, Search: []string{"kittiwake.example"},
			Routes: []endpoint.Route{
				{To: netip.MustParsePrefix("0.0.0.0/0"), Via: Gateway, Interface: "eth0", Table: 254, Origin: endpoint.ByDHCP,
					Verdict: endpoint.Forward},
				{To: netip.MustParsePrefix("172.27.40.0/24"), Interface: "eth0", Source: Own, Table: 254, Origin: endpoint.ByKernel,
					Verdict: endpoint.Forward}},
			Resolvers: []endpoint.Resolver{{Address: Core, Source: "/etc/resolv.conf"}, {Address: NS, Source: "/etc/resolv.conf"}}},
		Routes: []endpoint.RouteAnswer{{To: Bookings, Verdict: endpoint.Forward, Interface: "eth0", Via: Gateway, Source: Own}},
		Loopback: []evidence.Echo{
			{Asked: netip.MustParseAddr("127.0.0.1"), Method: "icmp", Reply: Answer(netip.MustParseAddr("127.0.0.1"), 0.05)}},
		Neighbours: []evidence.Neighbour{
			{Asked: Gateway, Method: "arp", Asks: 1, Hardware: []endpoint.HardwareAddr{{2, 0, 0, 0, 0, 1}}, Reply: Answer(Gateway, 0.4)},
			{Asked: Core, Method: "arp", Asks: 1, Hardware: []endpoint.HardwareAddr{{2, 0, 0, 0, 0, 2}}, Reply: Answer(Core, 0.4)}},
		Discovery: &evidence.Discovery{Interface: "eth0", Discovers: 1, Complete: true, Waited: 60 * time.Millisecond,
			Offers: []evidence.Offer{Offer(24)}},
		Conflicts: []evidence.Conflict{{Address: Own, Reply: Silence()}},
		Echoes: []evidence.Echo{{Asked: Gateway, Method: "icmp", Reply: Answer(Gateway, 0.4)},
			{Asked: Bookings, Method: "icmp", Reply: Answer(Bookings, 20)}},
		Connects: []evidence.Connect{{To: netip.AddrPortFrom(Bookings, 443), Reply: Answer(Bookings, 20)}},
		Elapsed:  80 * time.Millisecond,
	}
	for _, server := range []netip.Addr{Core, NS} {
		s.Lookups = append(s.Lookups,
			evidence.Lookup{Server: server, Name: "bookings.kittiwake.example", Type: "A", RCode: "NOERROR",
				Addresses: []netip.Addr{Bookings}, Asks: 1, Reply: Answer(server, 1)})
	}
	for _, to := range []netip.Addr{Bookings, NS} {
		s.Hops = append(s.Hops, Path(to, Gateway, Edge, Provider, Exchange, to)...)
	}
	return s
}

// Offer is what the pier's DHCP server offers, with a prefix of so many bits.
func Offer(bits int) evidence.Offer {
	return OfferOf(
		dhcp.Terms{Server: Core, Address: Own, PrefixLength: bits, Routers: []netip.Addr{Gateway}, Resolvers: []netip.Addr{Core, NS},
			Domain: "kittiwake.example", Lease: time.Hour})
}

// OfferOf is an offer of such terms.
func OfferOf(t dhcp.Terms) evidence.Offer {
	return evidence.Offer{Server: t.Server, Address: t.Prefix(), Routers: t.Routers, Resolvers: t.Resolvers, Domain: t.Domain,
		Lease: t.Lease, Terms: t, RTT: 2 * time.Millisecond}
}

// Leased gives the machine a lease in force, as its client wrote it down so long before the settings were read.
func Leased(s *evidence.Set, ago time.Duration, t dhcp.Terms) {
	s.Endpoint.At = time.Date(2026, 11, 23, 9, 14, 3, 0, time.UTC)
	l := lease.Lease{Interface: "eth0", Client: lease.Dhclient, Terms: t, Obtained: s.Endpoint.At.Add(-ago), InForce: true,
		Source: "var/lib/dhcp/dhclient.eth0.leases"}
	l.Complete()
	s.Endpoint.Leases = []lease.Lease{l}
}

// Path is a trace on which these answered, hop by hop; the zero address is a silent hop, the target itself the end.
func Path(to netip.Addr, hops ...netip.Addr) (out []evidence.Hop) {
	for i, from := range hops {
		h := evidence.Hop{To: to, Method: "icmp", HopLimit: i + 1,
			Reply: evidence.Reply{Outcome: evidence.Expired, From: from, ICMPType: 11, RTT: time.Duration(i+1) * 4 * time.Millisecond,
				HopLimitLeft: 64 - i}}
		switch {
		case !from.IsValid():
			h.Reply = Silence()
		case from == to:
			h.Outcome = evidence.Answered
		}
		out = append(out, h)
	}
	return out
}

// Port gives the set's network port, to be changed.
func Interface(s *evidence.Set) *endpoint.Interface {
	i, _ := s.Endpoint.Interface("eth0")
	return i
}

// GatewayGone takes away everything that came from the gateway or through it.
func GatewayGone(s *evidence.Set) {
	for i := range s.Neighbours {
		if s.Neighbours[i].Asked == Gateway {
			s.Neighbours[i] = evidence.Neighbour{Asked: Gateway, Method: "arp", Asks: 3,
				Reply: evidence.Reply{Outcome: evidence.Silent, Waited: time.Second}}
		}
	}
	s.Hops = slices.Concat(Path(Bookings, netip.Addr{}, netip.Addr{}), Path(NS, netip.Addr{}, netip.Addr{}))
	for i := range s.Echoes {
		s.Echoes[i].Reply = Silence()
	}
	Unserved(s)
	s.Lookups[1] = evidence.Lookup{Server: NS, Name: "bookings.kittiwake.example", Type: "A", Asks: 3, Reply: Silence()}
}

// Unserved makes the attempt to connect end in silence.
func Unserved(s *evidence.Set) {
	s.Connects = []evidence.Connect{{To: netip.AddrPortFrom(Bookings, 443), Reply: Silence()}}
}

// Unnamed makes every look-up end so; the target is then never asked.
func Unnamed(s *evidence.Set, end func(server netip.Addr) evidence.Lookup) {
	s.Lookups = nil
	for _, server := range s.Endpoint.AskedResolvers() {
		l := end(server)
		l.Server, l.Name, l.Type = server, s.Target.Name, "A"
		s.Lookups = append(s.Lookups, l)
	}
	s.Connects, s.Routes = nil, nil
	s.Echoes = s.Echoes[:1]
	s.Hops = slices.DeleteFunc(s.Hops, func(h evidence.Hop) bool { return h.To == Bookings })
}

// WithoutFrames makes of a set what a user without raw frames would have gathered.
func WithoutFrames(s *evidence.Set) {
	s.Discovery, s.Conflicts, s.Heard, s.Arrivals = nil, nil, nil, nil
	for _, k := range []evidence.Kind{evidence.DHCPOffer, evidence.AddressConflict, evidence.SegmentFrames} {
		s.Withheld = append(s.Withheld, evidence.Withheld{Kind: k, Why: "needs permission to send raw frames", Mend: "allow it"})
	}
}
