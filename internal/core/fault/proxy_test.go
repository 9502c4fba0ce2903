package fault_test

import (
	"net/netip"
	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	. "passepartout/internal/core/evidence/evidencetest"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/zone"
)

var proxyCases = []testCase{
	{name: "a proxy that passes on", change: byProxy(200, Answer(store, 40)), zone: zone.None, cleared: []string{"proxy-in-the-way"}},
	{name: "a proxy that is off", change: byProxy(0, Silence()), zone: zone.Host, fault: "proxy-in-the-way", confidence: verdict.Certain,
		says: "172.27.40.70:3128", next: "/etc/environment"},
	{name: "a proxy without a service", change: byProxy(0, evidence.Reply{Outcome: evidence.Refused, From: store}), zone: zone.Host,
		fault: "proxy-in-the-way", says: "refuses the connection"},
	{name: "a proxy that wants a log-in", change: byProxy(407, Answer(store, 4)), zone: zone.Host, fault: "proxy-in-the-way",
		says: "status 407"},
	{name: "a proxy that does not get there, and the way is open", change: byProxy(502, Answer(store, 4)), zone: zone.Host,
		fault: "proxy-in-the-way"},
	{name: "a dead proxy that is not for this target", change: and(byProxy(0, Silence()), func(s *evidence.Set) {
		s.Endpoint.Proxies[0].Except, s.Webs = ".kittiwake.example", s.Webs[:1]
	}), zone: zone.None, cleared: []string{"proxy-in-the-way"}},
	{name: "a proxy is nothing to a target without a page", change: func(s *evidence.Set) {
		s.Endpoint.Proxies = []endpoint.ProxySetting{{Source: "/etc/environment", HTTP: "http://172.27.40.70:3128"}}
	}, zone: zone.None, cleared: []string{"proxy-in-the-way"}},
	{name: "a dead proxy that the network names", change: and(plainWeb(200, ""), func(s *evidence.Set) {
		s.Scripts = []evidence.ProxyScript{
			{URL: "http://172.27.40.2/proxies", NamedBy: Core, Proxies: []string{"172.27.40.70:3128"}, Reply: Answer(Core, 2)}}
		s.Webs = append(s.Webs,
			evidence.Web{URL: s.Target.URL, To: netip.AddrPortFrom(store, 3128), Via: "172.27.40.70:3128", Reply: Silence()})
	}), zone: zone.LocalSubnet, fault: "proxy-in-the-way", confidence: verdict.Likely},
}
