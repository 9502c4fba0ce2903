package fault_test

import (
	"net/netip"
	"passepartout/internal/core/dhcp"
	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	. "passepartout/internal/core/evidence/evidencetest"
	"passepartout/internal/core/site"
	"passepartout/internal/core/target"
	"time"
)

var localStub = netip.MustParseAddr("127.0.0.53")

// stub puts a forwarder of this machine before the name server beyond: what it says, and whether that one answers.
func stub(s *evidence.Set, code string, behind bool) {
	s.Endpoint.Resolvers = []endpoint.Resolver{{Address: localStub, Stub: true, Source: "/etc/resolv.conf"},
		{Address: NS, Behind: true, Source: "behind"}}
	s.Lookups = []evidence.Lookup{
		{Server: localStub, Name: s.Target.Name, Type: "A", RCode: code, Reply: Answer(localStub, 1)},
		{Server: NS, Name: s.Target.Name, Type: "A", RCode: "NOERROR", Addresses: []netip.Addr{Bookings}, Reply: Answer(NS, 20)},
	}
	if !behind {
		s.Lookups[1] = evidence.Lookup{Server: NS, Name: s.Target.Name, Type: "A", Reply: Silence()}
	}
}

// forwarder leaves one name server, on the segment, that lives and gives no answer about the name.
func forwarder(s *evidence.Set) {
	s.Endpoint.Resolvers = s.Endpoint.Resolvers[:1]
	Unnamed(s, Unanswered)
	s.Lookups = append(s.Lookups, evidence.Lookup{Server: Core, Type: "CH", RCode: "REFUSED", Reply: Answer(Core, 1)})
	s.Discovery.Offers[0].Resolvers = s.Discovery.Offers[0].Resolvers[:1]
}

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
	Interface(s).Addresses[0].Prefix = netip.PrefixFrom(Own, 16)
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
	s.Counted = []evidence.InterfaceCount{{Interface: "eth0", Over: time.Second, After: after}}
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
	Interface(s).Addresses[0].Prefix = quay
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

var (
	moment   = time.Date(2026, 11, 23, 9, 14, 0, 0, time.UTC)
	tides4   = netip.MustParseAddr("203.0.113.70")
	tides6   = netip.MustParseAddr("2001:db8:113::70")
	gateway6 = netip.MustParseAddr("2001:db8:40::1")
	store    = netip.MustParseAddr("172.27.40.70")
)

// secure asks for a page, whose certificate is refused so; date is the service's own clock.
func secure(flaw evidence.TLSFlaw, from, to, date time.Time) func(*evidence.Set) {
	return func(s *evidence.Set) {
		s.Target, _ = target.Parse("https://bookings.kittiwake.example/")
		s.Webs = []evidence.Web{
			{URL: "https://bookings.kittiwake.example/", To: netip.AddrPortFrom(Bookings, 443), Flaw: flaw, Date: date, At: moment,
				Shown: evidence.Certificate{Names: []string{"bookings.kittiwake.example"}, Issuer: "CN=pier", NotBefore: from,
					NotAfter: to},
				Reply: evidence.Reply{Outcome: evidence.Malformed, From: Bookings, Reason: "handshake failure"}}}
		if flaw == evidence.NoFlaw {
			s.Webs[0].Reply = Answer(Bookings, 40)
		}
	}
}

// twice gives the target's name an address of each family, tried so.
func twice(four, six evidence.Reply) func(*evidence.Set) {
	return func(s *evidence.Set) {
		s.Target, _ = target.Parse("tides.kittiwake.example:443")
		for i := range s.Lookups {
			s.Lookups[i].Name, s.Lookups[i].Addresses = "tides.kittiwake.example", []netip.Addr{tides4}
			six := s.Lookups[i]
			six.Type, six.Addresses = "AAAA", []netip.Addr{tides6}
			s.Lookups = append(s.Lookups, six)
		}
		s.Routes = []endpoint.RouteAnswer{{To: tides4, Verdict: endpoint.Forward, Interface: "eth0", Via: Gateway, Source: Own},
			{To: tides6, Verdict: endpoint.Forward, Interface: "eth0", Via: gateway6}}
		s.Connects = []evidence.Connect{{To: netip.AddrPortFrom(tides4, 443), Reply: four},
			{To: netip.AddrPortFrom(tides6, 443), Reply: six}}
		s.Hops = append(Path(NS, Gateway, Edge, NS), Path(tides4, Gateway, Edge, tides4)...)
	}
}

// plainWeb asks for a page without a lock, which is answered so.
func plainWeb(status int, location string) func(*evidence.Set) {
	return func(s *evidence.Set) {
		s.Target, _ = target.Parse("http://bookings.kittiwake.example/")
		s.Connects[0].To = netip.AddrPortFrom(Bookings, 80)
		s.Webs = []evidence.Web{
			{URL: s.Target.URL, To: netip.AddrPortFrom(Bookings, 80), Status: status, Location: location, At: moment,
				Reply: Answer(Bookings, 30)}}
	}
}

// blocked lets every name server answer with an address that no host has; what listens on this machine accepts.
func blocked(with string) func(*evidence.Set) {
	return func(s *evidence.Set) {
		a := netip.MustParseAddr(with)
		for i := range s.Lookups {
			s.Lookups[i].Addresses = []netip.Addr{a}
		}
		s.Routes = []endpoint.RouteAnswer{{To: a, Verdict: endpoint.LocalRoute, Interface: "lo"}}
		s.Connects = []evidence.Connect{{To: netip.AddrPortFrom(a, 443), Reply: Answer(a, .1)}}
		s.Hops = nil
	}
}

// nobodysPage is what came of the same request to an address that no host has.
func nobodysPage(r evidence.Reply) func(*evidence.Set) {
	return func(s *evidence.Set) {
		s.Webs = append(s.Webs,
			evidence.Web{URL: "http://192.0.2.1/", To: netip.AddrPortFrom(evidence.Unassigned, 80), Status: 200, Reply: r})
	}
}

// shownThrough is the secure connection that was tried at the target's port, for which no page was asked.
func shownThrough(flaw evidence.TLSFlaw) func(*evidence.Set) {
	return func(s *evidence.Set) {
		r := Answer(Bookings, 30)
		if flaw != evidence.NoFlaw {
			r.Outcome = evidence.Malformed
		}
		s.Webs = append(s.Webs, evidence.Web{URL: "https://bookings.kittiwake.example/", To: netip.AddrPortFrom(Bookings, 443), Status: 200,
			Flaw: flaw, At: moment, Reply: r})
	}
}

// byProxy sets a proxy for programs, which did that with the request.
func byProxy(status int, r evidence.Reply) func(*evidence.Set) {
	return func(s *evidence.Set) {
		plainWeb(200, "")(s)
		s.Endpoint.Proxies = []endpoint.ProxySetting{{Source: "/etc/environment", HTTP: "http://172.27.40.70:3128", Except: "localhost"}}
		s.Webs = append(s.Webs,
			evidence.Web{URL: s.Target.URL, To: netip.AddrPortFrom(store, 3128), Via: "172.27.40.70:3128", Status: status, Reply: r})
	}
}

func and(changes ...func(*evidence.Set)) func(*evidence.Set) {
	return func(s *evidence.Set) {
		for _, f := range changes {
			f(s)
		}
	}
}

// behind lets nothing beyond the gateway answer.
func behind(s *evidence.Set) { CutAfter(s, Gateway) }

func short(outcome evidence.Outcome) func(*evidence.Set) {
	return func(s *evidence.Set) {
		s.Shorts = []evidence.ShortConnect{
			{To: s.Connects[0].To, HopLimit: 1, Reply: evidence.Reply{Outcome: outcome, From: Bookings, RTT: time.Millisecond}}}
	}
}

// portal lets the DHCP server name one, which says so of this machine.
func portal(says evidence.Captivity, outcome evidence.Outcome) func(*evidence.Set) {
	return func(s *evidence.Set) {
		s.Discovery.Offers = []evidence.Offer{
			OfferOf(dhcp.Terms{Server: Core, Address: Own, PrefixLength: 24, Routers: []netip.Addr{Gateway},
				Resolvers: []netip.Addr{Core, NS}, Lease: time.Hour, CaptivePortal: "https://portal.kittiwake.example/"})}
		s.Portals = []evidence.Portal{
			{URL: "https://portal.kittiwake.example/", Captive: says, Page: "https://portal.kittiwake.example/log-in",
				Reply: evidence.Reply{Outcome: outcome, From: Core, RTT: time.Millisecond}}}
	}
}

// arrived is what our responder at the far end has to say.
func arrived(answered int, told bool, count int) func(*evidence.Set) {
	return func(s *evidence.Set) {
		Alone(s, Silence())
		s.FarEnds = []evidence.FarEnd{
			{To: netip.AddrPortFrom(Bookings, 50907), Sent: 5, Answered: answered, Told: told, ToldBy: Exchange, Arrived: count}}
	}
}
