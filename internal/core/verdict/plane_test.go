package verdict_test

import (
	"net/netip"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	. "passepartout/internal/core/evidence/evidencetest"
	"passepartout/internal/core/fault"
	"passepartout/internal/core/site"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/zone"
)

var (
	wrong   = netip.MustParseAddr("203.0.113.18")
	board   = netip.MustParseAddr("172.27.40.60")
	laptop  = endpoint.HardwareAddr{2, 0, 0, 0, 0, 0x99}
	vrrp    = endpoint.HardwareAddr{0, 0, 0x5e, 0, 1, 0x28}
	gwCard  = endpoint.HardwareAddr{2, 0, 0, 0, 0, 1}
	pierNet = netip.MustParsePrefix("172.27.40.0/24")
)

// pier is what the ferry line has documented.
func pier() *site.Sheet {
	return &site.Sheet{
		Networks: []site.Network{
			{Name: "pier", Prefixes: []netip.Prefix{pierNet}, Gateways: []netip.Addr{Gateway}, DHCP: []netip.Addr{Core},
				Resolvers: []netip.Addr{Core}, SpeedMbit: 1000, Duplex: endpoint.FullDuplex,
				Fixed: []site.Fixed{{Address: Own, Name: "ticket-03"}}}}}
}

// cut lets nothing come back through the gateway, which answers on the segment.
func cut(s *evidence.Set) {
	s.Hops = slices.Concat(Path(Bookings, netip.Addr{}, netip.Addr{}), Path(NS, netip.Addr{}, netip.Addr{}))
	for i := range s.Echoes {
		s.Echoes[i].Reply = Silence()
	}
	Unserved(s)
	s.Lookups[1] = evidence.Lookup{Server: NS, Name: "bookings.kittiwake.example", Type: "A", Asks: 3, Reply: Silence()}
}

func believes(s *evidence.Set, a netip.Addr, h endpoint.HardwareAddr, state endpoint.NeighbourState) {
	s.Endpoint.Neighbours = append(s.Endpoint.Neighbours, endpoint.Neighbour{Address: a, Interface: "eth0", Hardware: h, State: state})
}

func held(s *evidence.Set, cards ...endpoint.HardwareAddr) { s.Neighbours[0].Hardware = cards }

// differs has the first server give another address than the second, to which the connection ends so.
func differs(s *evidence.Set, other evidence.Reply) {
	s.Lookups[0].Addresses = []netip.Addr{wrong}
	s.Connects = []evidence.Connect{{To: netip.AddrPortFrom(wrong, 443), Reply: Silence()},
		{To: netip.AddrPortFrom(Bookings, 443), Reply: other}}
	s.Routes = []endpoint.RouteAnswer{{To: wrong, Verdict: endpoint.Forward, Interface: "eth0", Via: Gateway, Source: Own}}
	s.Echoes[1] = evidence.Echo{Asked: wrong, Method: "icmp", Reply: Silence()}
	s.Hops = append(Path(NS, Gateway, Edge, Provider, Exchange, NS), Path(wrong, Gateway, Edge, Provider, netip.Addr{})...)
}

func inHosts(s *evidence.Set, other evidence.Reply) {
	differs(s, other)
	s.Lookups[0].Addresses = []netip.Addr{Bookings}
	s.Endpoint.Hosts = []endpoint.HostsLine{{Address: wrong, Names: []string{"bookings.kittiwake.example"}}}
}

// handSet puts one name server there by hand, at which nothing answers, while another answers the name.
func handSet(s *evidence.Set, good netip.Addr) {
	s.Endpoint.Resolvers = []endpoint.Resolver{{Address: board, Source: "/etc/resolv.conf"}}
	Unnamed(s, func(netip.Addr) evidence.Lookup {
		return evidence.Lookup{Asks: 1, Reply: evidence.Reply{Outcome: evidence.Refused, From: board}}
	})
	s.Neighbours[1].Asked = board
	if good.IsValid() {
		s.Elsewhere = []evidence.Lookup{
			{Server: good, Name: s.Target.Name, Type: "A", RCode: "NOERROR", Addresses: []netip.Addr{Bookings}, Reply: Answer(good, 1)}}
	}
}

// counted says how the port's counters grew; lossy makes the gateway and the target lose a fifth.
func counted(s *evidence.Set, after endpoint.Counters) {
	s.Counted = []evidence.PortCount{{Interface: "eth0", Over: time.Second, After: after}}
}

func lossy(s *evidence.Set) {
	s.Bursts = []evidence.Burst{Probed(Gateway, 48, 60, .4), Probed(Core, 47, 60, .4), Probed(Bookings, 48, 60, 20)}
	s.Sizings = []evidence.Sizing{{To: Gateway, Full: 1500, Passes: 1500}, {To: Bookings, Full: 1500, Passes: 1500}}
}

func onQuay(s *evidence.Set) {
	quay := netip.MustParsePrefix("10.66.0.23/24")
	t := Offer(24).Terms
	t.Server, t.Address, t.Routers, t.Resolvers = netip.MustParseAddr("10.66.0.1"), quay.Addr(),
		[]netip.Addr{netip.MustParseAddr("10.66.0.1")}, []netip.Addr{netip.MustParseAddr("10.66.0.1")}
	Port(s).Addresses[0].Prefix = quay
	s.Endpoint.Routes[0].Via, s.Routes[0].Via, s.Routes[0].Source = t.Server, t.Server, quay.Addr()
	s.Endpoint.Resolvers = []endpoint.Resolver{{Address: t.Server}}
	s.Neighbours[0].Asked, s.Neighbours[0].From = t.Server, t.Server
	s.Neighbours = s.Neighbours[:1]
	s.Conflicts[0].Address = quay.Addr()
	s.Echoes[0].Asked, s.Echoes[0].From = t.Server, t.Server
	s.Lookups = []evidence.Lookup{
		{Server: t.Server, Name: s.Target.Name, Type: "A", RCode: "NOERROR", Addresses: []netip.Addr{Bookings}, Asks: 1,
			Reply: Answer(t.Server, 1)}}
	s.Hops = Path(Bookings, t.Server, Edge, Provider, Exchange, Bookings)
	s.Discovery.Offers = []evidence.Offer{OfferOf(t)}
	s.Sheet = pier()
}

var planeCases = []testCase{
	{name: "pinned to another card", change: func(s *evidence.Set) { cut(s); believes(s, Gateway, laptop, endpoint.Permanent) },
		zone: zone.Host, fault: "neighbour-entry-pinned", confidence: verdict.Certain, says: "02:00:00:00:00:99",
		next: "ip neigh del 172.27.40.1", possible: []string{"gateway-does-not-forward"}},
	{name: "pinned, and right", change: func(s *evidence.Set) { believes(s, Gateway, gwCard, endpoint.Permanent) }, zone: zone.None,
		cleared: []string{"neighbour-entry-pinned"}},
	{name: "pinned, and unseen without frames", change: func(s *evidence.Set) {
		cut(s)
		believes(s, Gateway, laptop, endpoint.Permanent)
		s.Neighbours = s.Neighbours[1:]
		WithoutFrames(s)
	}, zone: zone.Host, fault: "neighbour-entry-pinned", confidence: verdict.Likely},
	{name: "pinned otherwise than documented", change: func(s *evidence.Set) {
		cut(s)
		believes(s, Gateway, laptop, endpoint.Permanent)
		s.Neighbours = nil
		s.Sheet = pier()
		s.Sheet.Networks[0].Fixed = append(s.Sheet.Networks[0].Fixed, site.Fixed{Address: Gateway, Hardware: gwCard})
	}, zone: zone.Host, fault: "neighbour-entry-pinned", says: "site sheet says 02:00:00:00:00:01"},

	{name: "two answer for the gateway", change: func(s *evidence.Set) {
		cut(s)
		believes(s, Gateway, laptop, endpoint.Reachable)
		held(s, gwCard, laptop)
	}, zone: zone.LocalSubnet, fault: "gateway-impersonated", confidence: verdict.Certain, says: "Two machines answer",
		possible: []string{"gateway-does-not-forward"}},
	{name: "two answer, one of them has an address of its own", change: func(s *evidence.Set) {
		cut(s)
		held(s, gwCard, laptop)
		s.Neighbours = append(s.Neighbours,
			evidence.Neighbour{Asked: board, Method: "arp", Hardware: []endpoint.HardwareAddr{laptop}, Reply: Answer(board, 1)})
	}, zone: zone.LocalSubnet, fault: "gateway-impersonated", next: "hardware address 02:00:00:00:00:99"},
	{name: "two answer, and traffic passes", change: func(s *evidence.Set) { held(s, gwCard, laptop) }, zone: zone.None,
		also: []string{"gateway-impersonated"}},
	{name: "the gateway has another card than before",
		change: func(s *evidence.Set) { cut(s); believes(s, Gateway, laptop, endpoint.Stale) }, zone: zone.LocalSubnet,
		fault: "gateway-impersonated", confidence: verdict.Likely},
	{name: "routers that share a card", change: func(s *evidence.Set) { believes(s, Gateway, vrrp, endpoint.Reachable); held(s, gwCard) },
		zone: zone.None, cleared: []string{"gateway-impersonated"}, remarks: []string{"redundant-gateway"}},
	{name: "both cards are documented", change: func(s *evidence.Set) {
		held(s, gwCard, laptop)
		s.Sheet = pier()
		s.Sheet.Networks[0].Routers = []endpoint.HardwareAddr{gwCard, laptop}
	}, zone: zone.None, cleared: []string{"gateway-impersonated"}},
	{name: "a card that is not documented", change: func(s *evidence.Set) {
		s.Sheet = pier()
		s.Sheet.Networks[0].Routers = []endpoint.HardwareAddr{laptop}
	}, zone: zone.None, also: []string{"gateway-impersonated"}},

	{name: "the hosts file leads nowhere", change: func(s *evidence.Set) { inHosts(s, Answer(Bookings, 20)) }, zone: zone.Host,
		fault: "hosts-file-override", confidence: verdict.Certain, says: "203.0.113.18", next: "/etc/hosts",
		possible: []string{"destination-silent"}},
	{name: "the hosts file, and DNS is no better", change: func(s *evidence.Set) { inHosts(s, Silence()) }, zone: zone.Beyond,
		fault: "destination-silent", cleared: []string{"hosts-file-override"}},
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
	{name: "neither answer works", change: func(s *evidence.Set) { differs(s, Silence()) }, zone: zone.Beyond,
		fault: "destination-silent", cleared: []string{"name-answers-differ"}},
	{name: "they differ, and the one in use works", change: func(s *evidence.Set) { s.Lookups[1].Addresses = []netip.Addr{wrong} },
		zone: zone.None, cleared: []string{"name-answers-differ"}},
	{name: "the first server denies the name", change: func(s *evidence.Set) {
		s.Lookups[0].Addresses, s.Lookups[0].RCode = nil, "NXDOMAIN"
	}, zone: zone.LocalSubnet, fault: "name-answers-differ", says: "there is no such name", cleared: []string{"name-not-found"}},

	{name: "set by hand to a machine that is none", change: func(s *evidence.Set) { handSet(s, Core) }, zone: zone.Host,
		fault: "resolver-wrong", confidence: verdict.Certain, says: "runs no name service", next: "172.27.40.2",
		cleared: []string{"resolver-silent-local"}},
	{name: "set by hand, and nobody names a better one that answers", change: func(s *evidence.Set) { handSet(s, netip.Addr{}) },
		zone: zone.LocalSubnet, fault: "resolver-silent-local", possible: []string{"resolver-wrong"}},
	{name: "the network itself names the dead one", change: func(s *evidence.Set) {
		handSet(s, netip.Addr{})
		s.Discovery.Offers[0].Resolvers = []netip.Addr{board}
	}, zone: zone.LocalSubnet, fault: "resolver-silent-local", cleared: []string{"resolver-wrong"}},
	{name: "the site sheet names another", change: func(s *evidence.Set) {
		handSet(s, Core)
		s.Discovery.Offers, s.Sheet = nil, pier()
	}, zone: zone.Host, fault: "resolver-wrong", says: "the site sheet names"},

	{name: "the port loses what arrives", change: func(s *evidence.Set) {
		lossy(s)
		counted(s, endpoint.Counters{ReceivedPackets: 120, SentPackets: 180, ReceiveErrors: 24, Damaged: 24})
	}, zone: zone.Host, fault: "link-errors", confidence: verdict.Certain, says: "24 receive errors",
		possible: []string{"segment-lossy"}},
	{name: "the port loses what arrives, and by chance only from far away", change: func(s *evidence.Set) {
		Measured(s)
		s.Bursts[1] = Probed(Bookings, 40, 60, 20)
		counted(s, endpoint.Counters{ReceivedPackets: 120, SentPackets: 180, ReceiveErrors: 24})
	}, zone: zone.Host, fault: "link-errors", confidence: verdict.Likely, possible: []string{"path-lossy"}},
	{name: "the system drops what arrives", change: func(s *evidence.Set) {
		lossy(s)
		counted(s, endpoint.Counters{ReceivedPackets: 120, SentPackets: 180, ReceiveDrops: 24})
	}, zone: zone.Host, fault: "link-errors"},
	{name: "drops without a loss are usual", change: func(s *evidence.Set) {
		Measured(s)
		counted(s, endpoint.Counters{ReceivedPackets: 120, SentPackets: 180, ReceiveDrops: 24})
	}, zone: zone.None, cleared: []string{"link-errors"}},
	{name: "a loss that the port knows nothing of", change: func(s *evidence.Set) {
		lossy(s)
		counted(s, endpoint.Counters{ReceivedPackets: 120, SentPackets: 180, ReceiveDrops: 2})
	}, zone: zone.LocalSubnet, fault: "segment-lossy", cleared: []string{"link-errors"}},
	{name: "totals since the start say nothing", change: func(s *evidence.Set) {
		Measured(s)
		s.Counted = []evidence.PortCount{
			{Interface: "eth0", Before: endpoint.Counters{ReceiveErrors: 9000},
				After: endpoint.Counters{ReceiveErrors: 9000, ReceivedPackets: 100}}}
	}, zone: zone.None, cleared: []string{"link-errors"}},
	{name: "errors and nothing lost", change: func(s *evidence.Set) {
		Measured(s)
		counted(s, endpoint.Counters{ReceivedPackets: 100, ReceiveErrors: 5})
	}, zone: zone.None, also: []string{"link-errors"}},
	{name: "half duplex", change: func(s *evidence.Set) { Measured(s); Port(s).Duplex = endpoint.HalfDuplex }, zone: zone.None,
		also: []string{"link-errors"}},
	{name: "half duplex and a loss", change: func(s *evidence.Set) { lossy(s); Port(s).Duplex = endpoint.HalfDuplex }, zone: zone.Host,
		fault: "link-errors", confidence: verdict.Likely},
	{name: "slower than documented", change: func(s *evidence.Set) { Measured(s); Port(s).SpeedMbit = 100; s.Sheet = pier() },
		zone: zone.None, also: []string{"link-errors"}},
	{name: "100 Mbit/s, and nobody documents more",
		change: func(s *evidence.Set) { Measured(s); Port(s).SpeedMbit = 100; counted(s, endpoint.Counters{}) }, zone: zone.None,
		cleared: []string{"link-errors"}},

	{name: "on another segment than documented", change: func(s *evidence.Set) {
		onQuay(s)
		s.Connects = []evidence.Connect{{To: netip.AddrPortFrom(Bookings, 443), Reply: Silence()}}
		s.Echoes[1].Reply = Silence()
		s.Hops = Path(Bookings, netip.MustParseAddr("10.66.0.1"), Edge, netip.Addr{}, netip.Addr{})
	}, zone: zone.LocalSubnet, fault: "wrong-segment", confidence: verdict.Certain, says: "belongs on pier 172.27.40.0/24"},
	{name: "on another segment, and it works", change: onQuay, zone: zone.None, also: []string{"wrong-segment"}},
	{name: "on another segment, and no sheet", change: func(s *evidence.Set) { onQuay(s); s.Sheet = nil }, zone: zone.None,
		possible: []string{"wrong-segment"}},
	{name: "slower than the sheet allows", change: func(s *evidence.Set) {
		Measured(s)
		s.Bursts[1] = Probed(Bookings, 20, 20, 120)
		s.Sheet = pier()
		s.Sheet.Services = []site.Service{{Target: s.Target, Delay: 80 * time.Millisecond}}
	}, zone: zone.Beyond, fault: "path-slow"},
	{name: "slow, and the sheet allows it", change: func(s *evidence.Set) {
		Measured(s)
		s.Bursts[1] = Probed(Bookings, 20, 20, 620)
		s.Sheet = pier()
		s.Sheet.Services = []site.Service{{Target: s.Target, Delay: 700 * time.Millisecond}}
	}, zone: zone.None, cleared: []string{"path-slow"}},
	{name: "on the documented one", change: func(s *evidence.Set) { s.Sheet = pier() }, zone: zone.None,
		cleared: []string{"wrong-segment", "dhcp-rogue"}},
	{name: "a DHCP server that is not documented",
		change: func(s *evidence.Set) { s.Sheet = pier(); s.Sheet.Networks[0].DHCP = []netip.Addr{board} }, zone: zone.None,
		also: []string{"dhcp-rogue"}},
	{name: "the sheet has a longer mask", change: func(s *evidence.Set) {
		wide(s)
		s.Discovery.Offers, s.Sheet = nil, pier()
		Port(s).Addresses[0].Origin, Port(s).Addresses[0].Limited = endpoint.ByHand, false
	}, zone: zone.Host, fault: "mask-too-wide", says: "172.27.90.80", next: "255.255.255.0"},
	{name: "no address, and the sheet gives it one", change: func(s *evidence.Set) {
		noAddress(s)
		none(s)
		s.Sheet = pier()
		s.Sheet.Networks[0].DHCP = nil
	}, zone: zone.Host, fault: "no-address", says: "the site sheet gives this machine 172.27.40.23", next: "172.27.40.23/24",
		possible: []string{"dhcp-silent"}},
	{name: "the sheet has another gateway", change: func(s *evidence.Set) {
		GatewayGone(s)
		s.Discovery.Offers, s.Sheet = nil, pier()
		s.Sheet.Networks[0].Gateways = []netip.Addr{moved}
		for i := range s.Endpoint.Routes {
			s.Endpoint.Routes[i].Origin = endpoint.ByHand
		}
	}, zone: zone.Host, fault: "gateway-silent", says: "172.27.40.254"},
}

// What a fault explains is in the catalogue, farther from the host or beside it, and explains nothing back.
func TestWhatFollowsIsInTheCatalogue(t *testing.T) {
	at := map[fault.ID]*fault.Fault{}
	for _, f := range fault.Catalogue {
		at[f.ID] = f
	}
	for _, f := range fault.Catalogue {
		for _, id := range f.Explains {
			if g := at[id]; assert.NotNil(t, g, "%s explains %s", f.ID, id) {
				assert.NotContains(t, g.Explains, f.ID)
				assert.NotEqual(t, f.ID, id)
				// the gateway itself is who holds back what it forwards later
				if f == fault.CaptivePortal && g == fault.GatewayDoesNotForward {
					continue
				}
				assert.GreaterOrEqual(t, g.Zone, f.Zone, "%s explains %s", f.ID, id)
			}
		}
	}
}
