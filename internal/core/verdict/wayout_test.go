package verdict_test

import (
	"net/netip"
	"time"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	. "passepartout/internal/core/evidence/evidencetest"
	"passepartout/internal/core/target"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/zone"
)

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

// beside adds a second port with an address, a default route of that metric, and what comes of trying the target out of it.
func beside(s *evidence.Set, name string, kind endpoint.Kind, metric int, r evidence.Reply) {
	s.Endpoint.Interfaces = append(s.Endpoint.Interfaces,
		endpoint.Interface{Index: 9, Name: name, Kind: kind, Up: true, Carrier: endpoint.CarrierPresent,
			Addresses: []endpoint.Address{{Prefix: netip.MustParsePrefix("192.168.77.20/24"), Scope: endpoint.ScopeGlobal}}})
	via := netip.MustParseAddr("192.168.77.1")
	s.Endpoint.Routes[0].Metric = 200
	s.Endpoint.Routes = append(s.Endpoint.Routes,
		endpoint.Route{To: netip.MustParsePrefix("0.0.0.0/0"), Via: via, Interface: name, Table: 254, Metric: metric,
			Verdict: endpoint.Forward})
	s.Routes[0].Interface, s.Routes[0].Via = name, via
	cut(s)
	s.OtherWays = []evidence.OtherWay{{Interface: "eth0", To: netip.AddrPortFrom(Bookings, 443), Reply: r}}
}

var waysCases = []testCase{
	{name: "a certificate that has run out",
		change: secure(evidence.CertificateExpired, moment.AddDate(-1, 0, 0), moment.AddDate(0, -1, 0), moment), zone: zone.Beyond,
		fault: "tls-fails", confidence: verdict.Certain, says: "has expired", cleared: []string{"clock-wrong"}},
	{name: "run out, by a clock that is ahead",
		change: secure(evidence.CertificateExpired, moment.AddDate(-3, 0, 0), moment.AddDate(-1, 0, 0), moment.AddDate(-2, 0, 0)),
		zone:   zone.Host, fault: "clock-wrong", confidence: verdict.Certain, says: "ahead"},
	{name: "not valid yet, by a clock that is behind",
		change: secure(evidence.CertificateNotYetValid, moment.AddDate(1, 0, 0), moment.AddDate(3, 0, 0), moment.AddDate(2, 0, 0)),
		zone:   zone.Host, fault: "clock-wrong", says: "behind"},
	{name: "run out, by both clocks, though they differ",
		change: secure(evidence.CertificateExpired, moment.AddDate(-3, 0, 0), moment.AddDate(-2, 0, 0), moment.AddDate(-1, 0, 0)),
		zone:   zone.Beyond, fault: "tls-fails", cleared: []string{"clock-wrong"}},
	{name: "run out, and the service does not say its time",
		change: secure(evidence.CertificateExpired, moment.AddDate(-1, 0, 0), moment.AddDate(0, -1, 0), time.Time{}), zone: zone.Beyond,
		fault: "tls-fails", confidence: verdict.Likely, possible: []string{"clock-wrong"}},
	{name: "for another name", change: secure(evidence.CertificateOfAnother, moment.AddDate(-1, 0, 0), moment.AddDate(1, 0, 0), moment),
		zone: zone.Beyond, fault: "tls-fails", says: "another name", cleared: []string{"clock-wrong"}},
	{name: "no handshake", change: secure(evidence.NoSecureConnection, time.Time{}, time.Time{}, time.Time{}), zone: zone.Beyond,
		fault: "tls-fails", confidence: verdict.Likely},
	{name: "a secure page", change: secure(evidence.NoFlaw, time.Time{}, time.Time{}, moment), zone: zone.None,
		cleared: []string{"tls-fails", "clock-wrong"}},

	{name: "IPv6 alone fails", change: twice(Answer(tides4, 20), Silence()), zone: zone.Beyond, fault: "one-family-broken",
		confidence: verdict.Certain, says: "over IPv4 and not over IPv6"},
	{name: "IPv4 alone fails", change: twice(Silence(), Answer(tides6, 20)), zone: zone.Beyond, fault: "one-family-broken",
		says: "over IPv6 and not over IPv4"},
	{name: "both work", change: twice(Answer(tides4, 20), Answer(tides6, 20)), zone: zone.None, cleared: []string{"one-family-broken"}},
	{name: "neither works", change: twice(Silence(), Silence()), zone: zone.Beyond, cleared: []string{"one-family-broken"}},
	{name: "the IPv6 gateway is silent", change: func(s *evidence.Set) {
		twice(Answer(tides4, 20), Silence())(s)
		s.Neighbours = append(s.Neighbours, evidence.Neighbour{Asked: gateway6, Method: "nd", Asks: 3, Reply: Silence()})
	}, zone: zone.LocalSubnet, fault: "one-family-broken"},

	{name: "a tunnel that carries nothing", change: func(s *evidence.Set) { beside(s, "tun0", endpoint.Tunnel, 0, Answer(Bookings, 20)) },
		zone: zone.Host, fault: "tunnel-holds-route", confidence: verdict.Certain, says: "tun0",
		cleared: []string{"competing-default-routes"}},
	{name: "a tunnel, and no other way works either", change: func(s *evidence.Set) { beside(s, "tun0", endpoint.Tunnel, 0, Silence()) },
		zone: zone.Undetermined, possible: []string{"tunnel-holds-route"}},
	{name: "the wrong one of two", change: func(s *evidence.Set) { beside(s, "wlan0", endpoint.Wireless, 100, Answer(Bookings, 20)) },
		zone: zone.Host, fault: "competing-default-routes", confidence: verdict.Certain, says: "192.168.77.1", next: "below 100",
		cleared: []string{"tunnel-holds-route"}},

	{name: "a neighbour for a gateway", change: func(s *evidence.Set) {
		through(s, store)
		passes(s)
		s.Endpoint.Routes[0].Origin = endpoint.ByHand
	}, zone: zone.Host, fault: "gateway-not-a-router", confidence: verdict.Certain, says: "172.27.40.1", next: "172.27.40.70",
		possible: []string{"gateway-does-not-forward"}},
	{name: "a neighbour for a gateway, and only the offer tells", change: func(s *evidence.Set) {
		through(s, store)
		s.Endpoint.Routes[0].Origin = endpoint.ByHand
	}, zone: zone.Host, fault: "gateway-not-a-router", says: "the segment's router is 172.27.40.1"},
	{name: "nobody names another", change: func(s *evidence.Set) {
		cut(s)
		s.Discovery.Offers = nil
		s.Endpoint.Routes[0].Origin = endpoint.ByHand
	}, zone: zone.LocalSubnet, fault: "gateway-does-not-forward", cleared: []string{"gateway-not-a-router"}},
}
