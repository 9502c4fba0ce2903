package fault_test

import (
	"net/netip"
	"passepartout/internal/core/evidence"
	. "passepartout/internal/core/evidence/evidencetest"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/zone"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var portalCases = []testCase{
	{name: "a page", change: plainWeb(200, ""), zone: zone.None, cleared: []string{"captive-portal", "proxy-in-the-way"}},
	{name: "sent on within the domain", change: plainWeb(302, "https://secure.kittiwake.example/"), zone: zone.None,
		cleared: []string{"captive-portal"}},
	{name: "sent on to somebody else", change: plainWeb(302, "http://welcome.harbour-guest.example/"), zone: zone.Beyond,
		fault: "captive-portal", confidence: verdict.Likely, next: "plain http:// page"},
	{name: "sent on to an address", change: plainWeb(302, "http://192.0.2.7/"), zone: zone.Beyond, fault: "captive-portal",
		confidence: verdict.Likely},
	{name: "a log-in is wanted by status", change: plainWeb(511, ""), zone: zone.Beyond, fault: "captive-portal",
		confidence: verdict.Certain},
	{name: "answered by somebody nearer", change: and(plainWeb(200, ""), short(evidence.Answered)), zone: zone.Beyond,
		fault: "captive-portal", confidence: verdict.Likely},
	{name: "answered by somebody nearer, who answers for nobody as well",
		change: and(plainWeb(200, ""), short(evidence.Answered), nobodysPage(Answer(evidence.Unassigned, 1))), zone: zone.Beyond,
		fault: "captive-portal", confidence: verdict.Certain},
	{name: "answered by somebody nearer, who has no answer where nobody is",
		change: and(plainWeb(200, ""), short(evidence.Answered), nobodysPage(Silence())), zone: zone.None,
		cleared: []string{"captive-portal"}},
	{name: "passed on by a relay that names itself", change: and(plainWeb(200, ""), short(evidence.Answered), func(s *evidence.Set) {
		s.Webs[0].Relay = "1.1 sound-cache"
	}), zone: zone.None, cleared: []string{"captive-portal"}},
	{name: "sent elsewhere by somebody nearer",
		change: and(plainWeb(302, "http://welcome.harbour-guest.example/"), short(evidence.Answered)),
		zone:   zone.Beyond, fault: "captive-portal", confidence: verdict.Certain},
	{name: "a service with a good certificate may send elsewhere to log in",
		change: and(secure(evidence.NoFlaw, moment, moment, moment), func(s *evidence.Set) {
			s.Webs[0].Status, s.Webs[0].Location = 302, "https://log-in.crew-house.example/"
		}), zone: zone.None, cleared: []string{"captive-portal"}},
	{name: "another's certificate by somebody nearer",
		change: and(secure(evidence.CertificateOfAnother, moment, moment.Add(time.Hour), moment), short(evidence.Answered)),
		zone:   zone.Beyond, fault: "captive-portal"},
	{name: "a port accepted by somebody nearer, who may pass it on", change: short(evidence.Answered), zone: zone.None,
		confidence: verdict.Likely, says: "Somebody nearer takes them", cleared: []string{"captive-portal"}},
	{name: "a port accepted by somebody nearer, and the service is seen through him",
		change: and(short(evidence.Answered), shownThrough(evidence.NoFlaw)), zone: zone.None, confidence: verdict.Certain},
	{name: "a port accepted by somebody nearer, who shows another's certificate",
		change: and(short(evidence.Answered), shownThrough(evidence.CertificateOfAnother)), zone: zone.Beyond, fault: "captive-portal",
		confidence: verdict.Certain},
	{name: "a portal says that this machine must log in", change: and(behind, portal(evidence.CaptiveYes, evidence.Answered)),
		zone: zone.Beyond, fault: "captive-portal", confidence: verdict.Certain, next: "https://portal.kittiwake.example/log-in"},
	{name: "a portal is named, and the target works", change: portal(evidence.CaptiveNo, evidence.Answered), zone: zone.None,
		cleared: []string{"captive-portal"}},
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
