package verdict_test

import (
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/dhcp"
	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	. "passepartout/internal/core/evidence/evidencetest"
	"passepartout/internal/core/target"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/zone"
)

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
func behind(s *evidence.Set) { cutAfter(s, Gateway) }

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
		alone(s, Silence())
		s.FarEnds = []evidence.FarEnd{
			{To: netip.AddrPortFrom(Bookings, 50907), Sent: 5, Answered: answered, Told: told, ToldBy: Exchange, Arrived: count}}
	}
}

var webCases = []testCase{
	{name: "a page", change: plainWeb(200, ""), zone: zone.None, cleared: []string{"captive-portal", "proxy-in-the-way"}},
	{name: "a page that is missing is an answer", change: plainWeb(404, ""), zone: zone.None},
	{name: "sent on within the domain", change: plainWeb(302, "https://secure.kittiwake.example/"), zone: zone.None,
		cleared: []string{"captive-portal"}},
	{name: "sent on to the same host by https", change: plainWeb(301, "https://bookings.kittiwake.example/"), zone: zone.None},
	{name: "sent on to a path", change: plainWeb(302, "/log-in"), zone: zone.None},
	{name: "sent on to somebody else", change: plainWeb(302, "http://welcome.harbour-guest.example/"), zone: zone.Beyond,
		fault: "captive-portal", confidence: verdict.Likely, next: "plain http:// page"},
	{name: "sent on to an address", change: plainWeb(302, "http://192.0.2.7/"), zone: zone.Beyond, fault: "captive-portal",
		confidence: verdict.Likely},
	{name: "a log-in is wanted by status", change: plainWeb(511, ""), zone: zone.Beyond, fault: "captive-portal",
		confidence: verdict.Certain},
	{name: "accepted by somebody nearer", change: and(plainWeb(200, ""), short(evidence.Answered)), zone: zone.Beyond,
		fault: "captive-portal", confidence: verdict.Certain},
	{name: "the hop limit ran out, as it should", change: and(plainWeb(200, ""), short(evidence.Expired)), zone: zone.None},
	{name: "accepted at hop 1, where the target is",
		change: and(plainWeb(200, ""), short(evidence.Answered), func(s *evidence.Set) { s.Hops = Path(Bookings, Bookings) }),
		zone:   zone.None},
	{name: "a good certificate is proof against somebody nearer",
		change: and(secure(evidence.NoFlaw, moment, moment, moment), short(evidence.Answered)), zone: zone.None},
	{name: "a service with a good certificate may send elsewhere to log in",
		change: and(secure(evidence.NoFlaw, moment, moment, moment), func(s *evidence.Set) {
			s.Webs[0].Status, s.Webs[0].Location = 302, "https://log-in.crew-house.example/"
		}), zone: zone.None, cleared: []string{"captive-portal"}},
	{name: "another's certificate by somebody nearer",
		change: and(secure(evidence.CertificateOfAnother, moment, moment.Add(time.Hour), moment), short(evidence.Answered)),
		zone:   zone.Beyond, fault: "captive-portal"},
	{name: "a port accepted by somebody nearer is only likely", change: short(evidence.Answered), zone: zone.Beyond,
		fault: "captive-portal", confidence: verdict.Likely},
	{name: "a portal says that this machine must log in", change: and(behind, portal(evidence.CaptiveYes, evidence.Answered)),
		zone: zone.Beyond, fault: "captive-portal", confidence: verdict.Certain, next: "https://portal.kittiwake.example/log-in"},
	{name: "a portal says that it need not", change: and(behind, portal(evidence.CaptiveNo, evidence.Answered)), zone: zone.Beyond,
		fault: "uplink-down", cleared: []string{"captive-portal"}},
	{name: "a portal that keeps silent explains nothing", change: and(behind, portal(evidence.CaptivityNotSaid, evidence.Silent)),
		zone: zone.Beyond, fault: "uplink-down", possible: []string{"captive-portal"}},
	{name: "a portal is named, and the target works", change: portal(evidence.CaptiveNo, evidence.Answered), zone: zone.None,
		cleared: []string{"captive-portal"}},
	{name: "what is sent arrives, and nothing comes back", change: arrived(0, true, 5), zone: zone.Beyond, fault: "return-path-missing",
		confidence: verdict.Certain, says: "203.0.113.80", next: "route back"},
	{name: "nothing arrives there", change: arrived(0, true, 0), zone: zone.Beyond, fault: "destination-silent",
		cleared: []string{"return-path-missing"}},
	{name: "the responder answers, and the service does not", change: arrived(5, true, 5), zone: zone.Beyond,
		fault: "destination-silent", cleared: []string{"return-path-missing"}},
	{name: "the responder cannot be asked", change: arrived(0, false, 0), zone: zone.Beyond, fault: "destination-silent",
		possible: []string{"return-path-missing"}},
	{name: "a proxy that passes on", change: byProxy(200, Answer(store, 40)), zone: zone.None, cleared: []string{"proxy-in-the-way"}},
	{name: "a proxy that is off", change: byProxy(0, Silence()), zone: zone.Host, fault: "proxy-in-the-way", confidence: verdict.Certain,
		says: "172.27.40.70:3128", next: "/etc/environment"},
	{name: "a proxy without a service", change: byProxy(0, evidence.Reply{Outcome: evidence.Refused, From: store}), zone: zone.Host,
		fault: "proxy-in-the-way", says: "refuses the connection"},
	{name: "a proxy that wants a log-in", change: byProxy(407, Answer(store, 4)), zone: zone.Host, fault: "proxy-in-the-way",
		says: "status 407"},
	{name: "a proxy that does not get there, and the way is open", change: byProxy(502, Answer(store, 4)), zone: zone.Host,
		fault: "proxy-in-the-way"},
	{name: "a proxy that passes on what is missing", change: byProxy(404, Answer(store, 4)), zone: zone.None},
	{name: "a dead proxy that is not for this target", change: and(byProxy(0, Silence()), func(s *evidence.Set) {
		s.Endpoint.Proxies[0].Except, s.Webs = ".kittiwake.example", s.Webs[:1]
	}), zone: zone.None, cleared: []string{"proxy-in-the-way"}},
	{name: "a proxy is nothing to a target without a page", change: func(s *evidence.Set) {
		s.Endpoint.Proxies = []endpoint.ProxySetting{{Source: "/etc/environment", HTTP: "http://172.27.40.70:3128"}}
	}, zone: zone.None, cleared: []string{"proxy-in-the-way"}},
	{name: "nothing may leave but by the proxy", change: and(byProxy(200, Answer(store, 40)), func(s *evidence.Set) {
		Unserved(s)
		s.Webs = s.Webs[1:]
	}), zone: zone.None},
	{name: "neither the proxy nor the service", change: and(byProxy(0, Silence()), behind, func(s *evidence.Set) { s.Webs = s.Webs[1:] }),
		zone: zone.Beyond, fault: "uplink-down", possible: []string{"proxy-in-the-way"}},
	{name: "a dead proxy that the network names", change: and(plainWeb(200, ""), func(s *evidence.Set) {
		s.Scripts = []evidence.ProxyScript{
			{URL: "http://172.27.40.2/proxies", NamedBy: Core, Proxies: []string{"172.27.40.70:3128"}, Reply: Answer(Core, 2)}}
		s.Webs = append(s.Webs,
			evidence.Web{URL: s.Target.URL, To: netip.AddrPortFrom(store, 3128), Via: "172.27.40.70:3128", Reply: Silence()})
	}), zone: zone.LocalSubnet, fault: "proxy-in-the-way", confidence: verdict.Likely},
	{name: "a dead proxy that the network names, with the direct way beside it", change: and(plainWeb(200, ""), func(s *evidence.Set) {
		s.Scripts = []evidence.ProxyScript{
			{URL: "http://172.27.40.2/proxies", NamedBy: Core, Proxies: []string{"172.27.40.70:3128"}, Direct: true,
				Reply: Answer(Core, 2)}}
		s.Webs = append(s.Webs,
			evidence.Web{URL: s.Target.URL, To: netip.AddrPortFrom(store, 3128), Via: "172.27.40.70:3128", Reply: Silence()})
	}), zone: zone.None},
}

func TestWhoNamesThePortal(t *testing.T) {
	const uri = "https://portal.kittiwake.example/"
	for words, name := range map[string]func(*evidence.Set){
		"fe80::1, by router advertisement, names a captive portal": func(s *evidence.Set) {
			s.Routers6 = []evidence.Advertisement{{Router: netip.MustParseAddr("fe80::1"), CaptivePortal: uri}}
		},
		"fe80::2, by DHCPv6 option 103, names a captive portal": func(s *evidence.Set) {
			s.Informed6 = []evidence.Information{{From: netip.MustParseAddr("fe80::2"), CaptivePortal: uri}}
		},
		"172.27.40.2, by DHCP option 114, names a captive portal": portal(evidence.CaptiveYes, evidence.Answered),
		"": func(s *evidence.Set) {
			s.Routers6 = []evidence.Advertisement{{CaptivePortal: "urn:ietf:params:capport:unrestricted"}}
		},
	} {
		s := Healthy()
		behind(s)
		name(s)
		r := verdict.Judge(s)
		suspect, ok := r.Suspect("captive-portal")
		require.True(t, ok)
		assert.Contains(t, strings.Join(suspect.For, "; "), words)
		assert.Equal(t, words != "", len(suspect.For) > 0, "%v", suspect.For)
	}
}
