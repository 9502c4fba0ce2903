package fault_test

import (
	"net/netip"
	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	. "passepartout/internal/core/evidence/evidencetest"
	"passepartout/internal/core/target"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/zone"
)

var healthyCases = []testCase{
	{name: "healthy", zone: zone.None, confidence: verdict.Certain, says: "accepts connections on port 443",
		cleared: []string{"gateway-silent", "uplink-down", "service-refused", "address-conflict"}},
	{name: "healthy without frames is only likely", change: WithoutFrames, zone: zone.None, confidence: verdict.Likely},
	{name: "a stub that works", change: func(s *evidence.Set) { stub(s, "NOERROR", true); s.Lookups[0].Addresses = []netip.Addr{Bookings} },
		zone: zone.None},
	{name: "a server that answers names and nothing about itself", change: func(s *evidence.Set) {
		s.Lookups = append(s.Lookups, evidence.Lookup{Server: Core, Type: "CH", Reply: Silence()},
			evidence.Lookup{Server: NS, Type: "CH", RCode: "REFUSED", Reply: Answer(NS, 20)})
	}, zone: zone.None},
	{name: "no target: in order as far as the gateway",
		change: func(s *evidence.Set) { s.Target = target.Target{}; s.Connects, s.Routes = nil, nil }, zone: zone.None,
		says: "no target was given"},
	{name: "a family without a route does not count", change: func(s *evidence.Set) {
		six := netip.MustParseAddr("2001:db8:113::70")
		s.Lookups = append(s.Lookups,
			evidence.Lookup{Server: Core, Name: "bookings.kittiwake.example", Type: "AAAA", RCode: "NOERROR", Addresses: []netip.Addr{six},
				Reply: Answer(Core, 1)})
		s.Routes = append(s.Routes, endpoint.RouteAnswer{To: six, Verdict: endpoint.NoRoute})
	}, zone: zone.None},
	{name: "a page that is missing is an answer", change: plainWeb(404, ""), zone: zone.None},
	{name: "sent on to the same host by https", change: plainWeb(301, "https://bookings.kittiwake.example/"), zone: zone.None},
	{name: "sent on to a path", change: plainWeb(302, "/log-in"), zone: zone.None},
	{name: "the hop limit ran out, as it should", change: and(plainWeb(200, ""), short(evidence.Expired)), zone: zone.None},
	{name: "accepted at hop 1, where the target is",
		change: and(plainWeb(200, ""), short(evidence.Answered), func(s *evidence.Set) { s.Hops = Path(Bookings, Bookings) }),
		zone:   zone.None},
	{name: "a good certificate is proof against somebody nearer",
		change: and(secure(evidence.NoFlaw, moment, moment, moment), short(evidence.Answered)), zone: zone.None},
	{name: "a proxy that passes on what is missing", change: byProxy(404, Answer(store, 4)), zone: zone.None},
	{name: "nothing may leave but by the proxy", change: and(byProxy(200, Answer(store, 40)), func(s *evidence.Set) {
		Unserved(s)
		s.Webs = s.Webs[1:]
	}), zone: zone.None},
	{name: "a dead proxy that the network names, with the direct way beside it", change: and(plainWeb(200, ""), func(s *evidence.Set) {
		s.Scripts = []evidence.ProxyScript{
			{URL: "http://172.27.40.2/proxies", NamedBy: Core, Proxies: []string{"172.27.40.70:3128"}, Direct: true,
				Reply: Answer(Core, 2)}}
		s.Webs = append(s.Webs,
			evidence.Web{URL: s.Target.URL, To: netip.AddrPortFrom(store, 3128), Via: "172.27.40.70:3128", Reply: Silence()})
	}), zone: zone.None},
}
