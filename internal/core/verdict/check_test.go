package verdict_test

import (
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	. "passepartout/internal/core/evidence/evidencetest"
	"passepartout/internal/core/fault"
	"passepartout/internal/core/verdict"
)

// What each check says of a case: its state, its fact, and a line of what was heard.
func TestWhatChecksSay(t *testing.T) {
	for _, c := range []struct {
		name, id string
		change   func(*evidence.Set)
		state    verdict.State
		fact     string
		heard    string
	}{
		{name: "healthy", id: "loopback", state: verdict.Holds, fact: "answered in 50 µs"},
		{name: "healthy", id: "link", state: verdict.Holds, fact: "eth0 on, signal, 1 Gbit/s full duplex", heard: "MTU 1500 octets"},
		{name: "healthy", id: "address", state: verdict.Holds, fact: "172.27.40.23/24, set by DHCP",
			heard: "mask 255.255.255.0: 172.27.40.0 to 172.27.40.255"},
		{name: "healthy", id: "route", state: verdict.Holds, fact: "172.27.40.1 lies inside the mask",
			heard: "to 203.0.113.80: through eth0 by 172.27.40.1, as 172.27.40.23"},
		{name: "healthy", id: "resolvers", state: verdict.Holds, fact: "172.27.40.2, 203.0.113.53",
			heard: "short names are completed with kittiwake.example"},
		{name: "healthy", id: "conflict", state: verdict.Holds, fact: "nobody else answers for 172.27.40.23"},
		{name: "healthy", id: "neighbours", state: verdict.Holds, fact: "172.27.40.2 answers", heard: "172.27.40.2 is 02:00:00:00:00:02"},
		{name: "healthy", id: "dhcp", state: verdict.Holds, fact: "172.27.40.2 confirms 172.27.40.23",
			heard: "router 172.27.40.1, resolvers 172.27.40.2, 203.0.113.53"},
		{name: "healthy", id: "gateway", state: verdict.Holds, fact: "172.27.40.1 answers in 0.40 ms", heard: "echo: answered in 0.40 ms"},
		{name: "healthy", id: "forwarding", state: verdict.Holds, fact: "5 answer behind the gateway"},
		{name: "healthy", id: "names", state: verdict.Holds, fact: "bookings.kittiwake.example is 203.0.113.80",
			heard: "172.27.40.2: has the address"},
		{name: "healthy", id: "path", state: verdict.Holds, fact: "5 hops to 203.0.113.80",
			heard: "towards 203.0.113.53: reached at hop 5"},
		{name: "healthy", id: "service", state: verdict.Holds, fact: "reached in 20 ms", heard: "203.0.113.80:443: answered in 20 ms"},
		{name: "healthy", id: "echo", state: verdict.Holds, fact: "answered in 20 ms"},

		{name: "slow port", id: "link",
			change: func(s *evidence.Set) { Interface(s).SpeedMbit, Interface(s).Duplex = 10, endpoint.HalfDuplex },
			state:  verdict.Strained, fact: "eth0 on, signal, 10 Mbit/s half duplex"},
		{name: "speed not known", id: "link",
			change: func(s *evidence.Set) { Interface(s).SpeedMbit, Interface(s).Duplex = 0, endpoint.DuplexUnknown }, state: verdict.Holds,
			fact: "eth0 on, signal"},
		{name: "off", id: "link", change: func(s *evidence.Set) { NoAddress(s); Interface(s).Up = false }, state: verdict.Broken,
			fact: "eth0 is switched off"},
		{name: "off", id: "address", change: func(s *evidence.Set) { NoAddress(s); Interface(s).Up = false }, state: verdict.Skipped,
			fact: "the interface is off"},
		{name: "no carrier", id: "link", change: func(s *evidence.Set) { GatewayGone(s); Interface(s).Carrier = endpoint.CarrierAbsent },
			state: verdict.Broken, fact: "eth0 on, no signal, 1 Gbit/s full duplex"},
		{name: "self-assigned", id: "address", change: func(s *evidence.Set) {
			NoAddress(s)
			Interface(s).Addresses = []endpoint.Address{{Prefix: netip.MustParsePrefix("169.254.7.7/16")}}
		}, state: verdict.Broken, fact: "only 169.254.7.7, which the machine gave itself"},
		{name: "gateway outside", id: "route", change: func(s *evidence.Set) {
			GatewayGone(s)
			wrong := netip.MustParseAddr("172.27.41.1")
			s.Endpoint.Routes[0].Via, s.Routes[0].Via, s.Neighbours[0].Asked = wrong, wrong, wrong
		}, state: verdict.Broken, fact: "172.27.41.1 lies outside the mask", heard: "is in no prefix of eth0"},
		{name: "target on the segment", id: "route", change: func(s *evidence.Set) { OnSegment(s); s.Endpoint.Routes = nil },
			state: verdict.Strained, fact: "none needed: the target is on the segment"},
		{name: "target on the segment", id: "path", change: OnSegment, state: verdict.Skipped, fact: "none: the target is on the segment"},
		{name: "stub", id: "resolvers", change: func(s *evidence.Set) {
			s.Endpoint.Resolvers = []endpoint.Resolver{{Address: netip.MustParseAddr("127.0.0.53"), Stub: true, Source: "/etc/resolv.conf"},
				{Address: Core, Behind: true, Source: "behind"}}
		}, state: verdict.Holds, fact: "127.0.0.53, 172.27.40.2", heard: "127.0.0.53, from /etc/resolv.conf, a forwarder on this machine"},
		{name: "no resolver, none needed", id: "resolvers",
			change: func(s *evidence.Set) { ByAddress(s); s.Endpoint.Resolvers, s.Lookups = nil, nil }, state: verdict.Strained,
			fact: "no name server is set"},
		{name: "by address", id: "names", change: ByAddress, state: verdict.Skipped, fact: "no look-up needed"},
		{name: "withheld", id: "conflict", change: WithoutFrames, state: verdict.Skipped, fact: "could not be asked"},
		{name: "withheld", id: "dhcp", change: WithoutFrames, state: verdict.Skipped, fact: "could not be asked"},
		{name: "offers end", id: "dhcp", change: NobodyOffers, state: verdict.Skipped, fact: "no server answers; none is needed now"},
		{name: "offers under way", id: "dhcp", change: func(s *evidence.Set) { s.Discovery.Offers, s.Discovery.Complete = nil, false },
			state: verdict.StateUnknown, fact: "waiting for offers, 1 asked"},
		{name: "another address offered", id: "dhcp",
			change: func(s *evidence.Set) { s.Discovery.Offers[0].Address = netip.MustParsePrefix("172.27.40.150/24") },
			state:  verdict.Holds, fact: "172.27.40.2 offers 172.27.40.150/24"},
		{name: "silent gateway", id: "gateway", change: GatewayGone, state: verdict.Broken, fact: "172.27.40.1 is silent",
			heard: "echo: no answer within 1.6 s"},
		{name: "silent gateway", id: "forwarding", change: GatewayGone, state: verdict.Skipped, fact: "the gateway is not reached"},
		{name: "silent gateway", id: "path", change: GatewayGone, state: verdict.Skipped, fact: "not reached"},
		{name: "isolated", id: "neighbours", change: Isolated, state: verdict.Broken, fact: "nobody answers",
			heard: "253 addresses asked, none answered"},
		{name: "uplink down", id: "forwarding", change: func(s *evidence.Set) { CutAfter(s, Gateway) }, state: verdict.Broken,
			fact: "nothing behind the gateway answers"},
		{name: "path stops", id: "path", change: func(s *evidence.Set) { CutAfter(s, Gateway, Edge, Provider) }, state: verdict.Broken,
			fact: "seen as far as 198.51.100.9, hop 3", heard: "2 targets asked, every path ends after hop 3"},
		{name: "no such name", id: "names", change: func(s *evidence.Set) { Unnamed(s, AnsweredBy("NXDOMAIN")) }, state: verdict.Broken,
			fact: "no address for bookings.kittiwake.example", heard: "172.27.40.2: no such name or no address"},
		{name: "failing servers", id: "names", change: func(s *evidence.Set) { Unnamed(s, AnsweredBy("SERVFAIL")) }, state: verdict.Broken,
			heard: "172.27.40.2: fails (SERVFAIL)"},
		{name: "closed", id: "names", change: func(s *evidence.Set) {
			s.Lookups[1].Reply = evidence.Reply{Outcome: evidence.Refused, From: NS, Why: evidence.NoPort}
		}, state: verdict.Strained, heard: "203.0.113.53: port 53 is closed"},
		{name: "refused", id: "service",
			change: func(s *evidence.Set) { s.Connects[0].Reply = evidence.Reply{Outcome: evidence.Refused, From: Bookings} },
			state:  verdict.Broken, heard: "203.0.113.80:443: refused by 203.0.113.80"},
		{name: "prohibited", id: "service", change: func(s *evidence.Set) { Alone(s, Said(Edge, evidence.Prohibited, 2)) },
			state: verdict.Broken, heard: "198.51.100.1 says: administratively prohibited (ICMP type 3, code 1)"},
		{name: "echo ignored", id: "echo", change: func(s *evidence.Set) { s.Echoes[1].Reply = Silence() }, state: verdict.Skipped,
			fact: "no answer within 1.6 s; the service works all the same"},
		{name: "nothing asked yet", id: "service",
			change: func(s *evidence.Set) { s.Connects = nil; s.Open = []evidence.Kind{evidence.ServiceConnect} },
			state:  verdict.StateUnknown, fact: "not reached"},
	} {
		t.Run(c.name+", "+c.id, func(t *testing.T) {
			s := Healthy()
			if c.change != nil {
				c.change(s)
			}
			for _, check := range verdict.Judge(s).Checks {
				if check.ID != c.id {
					continue
				}
				assert.Equal(t, c.state.String(), check.State.String())
				if c.fact != "" {
					assert.Equal(t, c.fact, check.Fact)
				}
				assert.Contains(t, strings.Join(check.Heard, "\n"), c.heard)
				return
			}
			t.Errorf("there is no check %q", c.id)
		})
	}
}

func TestABrokenCheckTellsWhatIsRuledOut(t *testing.T) {
	s := Healthy()
	GatewayGone(s)
	for _, c := range verdict.Judge(s).Checks {
		if c.ID == "gateway" {
			assert.Subset(t, fault.Texts(c.Clears), []string{"interface-down", "no-carrier", "no-address", "segment-isolated"})
			assert.NotContains(t, fault.Texts(c.Clears), "uplink-down", "what lies behind is not judged by it")
		}
	}
}
