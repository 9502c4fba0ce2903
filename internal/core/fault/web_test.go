package fault_test

import (
	"net/netip"
	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	. "passepartout/internal/core/evidence/evidencetest"
	"passepartout/internal/core/target"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/zone"
	"time"
)

var webCases = []testCase{
	{name: "one family of two fails", change: func(s *evidence.Set) {
		six := netip.MustParseAddr("2001:db8:113::70")
		s.Lookups = append(s.Lookups,
			evidence.Lookup{Server: Core, Name: "bookings.kittiwake.example", Type: "AAAA", RCode: "NOERROR", Addresses: []netip.Addr{six},
				Reply: Answer(Core, 1)})
		s.Routes = append(s.Routes,
			endpoint.RouteAnswer{To: six, Verdict: endpoint.Forward, Interface: "eth0", Via: netip.MustParseAddr("fe80::1")})
		s.Connects = append(s.Connects, evidence.Connect{To: netip.AddrPortFrom(six, 443), Reply: Silence()})
	}, zone: zone.Beyond, fault: "one-family-broken"},
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
	{name: "another protocol", change: func(s *evidence.Set) {
		secure(evidence.NoFlaw, moment, moment, moment)(s)
		s.Webs[0].Spoke, s.Webs[0].Reply.Outcome = "SSH-2.0-kittiwake", evidence.Malformed
	}, zone: zone.Beyond, fault: "service-speaks-otherwise", confidence: verdict.Certain, says: "not in TLS",
		cleared: []string{"tls-fails"}},
	{name: "another protocol on the segment", change: func(s *evidence.Set) {
		OnSegment(s)
		s.Target, _ = target.Parse("http://172.27.40.2/")
		s.Connects[0].To = netip.AddrPortFrom(Core, 80)
		s.Webs = []evidence.Web{{URL: s.Target.URL, To: netip.AddrPortFrom(Core, 80), Spoke: "220 ready",
			Reply: evidence.Reply{Outcome: evidence.Malformed, From: Core}}}
	}, zone: zone.LocalSubnet, fault: "service-speaks-otherwise", says: "not in HTTP"},
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
}
