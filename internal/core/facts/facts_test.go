package facts_test

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	. "passepartout/internal/core/evidence/evidencetest"
	"passepartout/internal/core/facts"
	"passepartout/internal/core/target"
	"passepartout/internal/core/zone"
)

var stray = netip.MustParseAddr("172.27.40.66")

// nearer lets somebody before the target accept its connections.
func nearer(s *evidence.Set) {
	s.Shorts = []evidence.ShortConnect{{To: s.Connects[0].To, HopLimit: 1, Reply: Answer(Bookings, 1)}}
}

// Whether the gateway lives, whether it passes traffic on, and whether the target can be used are three questions: none answers another.
func TestWhatTheGatewayAndTheTargetHaveShown(t *testing.T) {
	none := netip.Addr{}
	for name, c := range map[string]struct {
		change                  func(*evidence.Set)
		alive, forwards, usable facts.Answer
	}{
		"all is well": {func(*evidence.Set) {}, facts.Yes, facts.Yes, facts.Yes},
		"cut":         {Cut, facts.Yes, facts.No, facts.No},
		"the trace is still under way": {func(s *evidence.Set) {
			Cut(s)
			s.Connects, s.Open = nil, []evidence.Kind{evidence.PathTrace, evidence.ServiceConnect}
		}, facts.Yes, facts.Unknown, facts.Unknown},
		"gone": {func(s *evidence.Set) { GatewayGone(s); s.Connects[0].Reply = Silence() }, facts.No, facts.No, facts.No},
		"the gateway says that there is no way": {func(s *evidence.Set) {
			Cut(s)
			s.Connects[0].Reply = Said(Gateway, evidence.NoNet, 1)
		}, facts.Yes, facts.Yes, facts.No},
		"by another of its addresses, its hop limit undiminished": {func(s *evidence.Set) {
			Cut(s)
			s.Connects[0].Reply = Said(Edge, evidence.NoNet, 1)
		}, facts.Yes, facts.Yes, facts.No},
		"a neighbour's word is not the gateway's": {func(s *evidence.Set) {
			Cut(s)
			s.Connects[0].Reply = Said(stray, evidence.NoNet, 2)
		}, facts.Yes, facts.No, facts.No},
		"no gateway": {func(s *evidence.Set) {
			NoAddress(s)
			s.Target = target.Target{}
		}, facts.Unknown, facts.Unknown, facts.No},
		"somebody nearer takes the connection, and may pass it on": {nearer, facts.Yes, facts.Yes, facts.Yes},
		"somebody nearer takes the connection; whether it comes through is being asked": {func(s *evidence.Set) {
			nearer(s)
			s.Open = []evidence.Kind{evidence.WebAnswer}
		}, facts.Yes, facts.Yes, facts.Unknown},
		"somebody nearer takes the connection, and shows another's certificate": {func(s *evidence.Set) {
			nearer(s)
			s.Webs = []evidence.Web{{URL: "https://bookings.kittiwake.example/", To: s.Connects[0].To, Flaw: evidence.CertificateOfAnother,
				Reply: evidence.Reply{Outcome: evidence.Malformed, From: Bookings}}}
		}, facts.Yes, facts.Yes, facts.No},
		"another family has no way, and needs none": {func(s *evidence.Set) {
			six := netip.MustParseAddr("2001:db8:80::80")
			s.Lookups = append(s.Lookups, evidence.Lookup{Server: Core, Name: "bookings.kittiwake.example", Type: "AAAA",
				RCode: "NOERROR", Addresses: []netip.Addr{six}, Reply: Answer(Core, 1)})
			s.Routes = append(s.Routes, endpoint.RouteAnswer{To: six, Verdict: endpoint.NoRoute})
		}, facts.Yes, facts.Yes, facts.Yes},
		"a hop that says nothing": {func(s *evidence.Set) { s.Hops = Path(Bookings, none, Edge, Bookings) }, facts.Yes, facts.Yes,
			facts.Yes},
	} {
		s := Healthy()
		c.change(s)
		f := facts.New(s)
		assert.Equal(t, []facts.Answer{c.alive, c.forwards, c.usable}, []facts.Answer{f.Alive, f.Forwards, f.Usable()}, name)
		assert.Equal(t, f.Usable(), f.Usable(), "asked twice")
	}
}

func TestWhereLossAndDelayBegin(t *testing.T) {
	for name, c := range map[string]struct {
		gateway, neighbour, target evidence.Burst
		loss, delay                zone.Zone
	}{
		"clean": {Probed(Gateway, 20, 20, .4), evidence.Burst{}, Probed(Bookings, 20, 20, 20), zone.Unknown,
			zone.Unknown},
		"at the gateway and behind": {Probed(Gateway, 40, 60, .4), evidence.Burst{}, Probed(Bookings, 40, 60, 20), zone.LocalSubnet,
			zone.Unknown},
		"at the gateway alone: rations": {Probed(Gateway, 40, 60, .4), evidence.Burst{}, Probed(Bookings, 20, 20, 20), zone.Unknown,
			zone.Unknown},
		"behind alone": {Probed(Gateway, 20, 20, .4), evidence.Burst{}, Probed(Bookings, 40, 60, 20), zone.Beyond,
			zone.Unknown},
		"the gateway mute, a neighbour clean": {evidence.Burst{}, Probed(Core, 20, 20, .4), Probed(Bookings, 40, 60, 20), zone.Beyond,
			zone.Unknown},
		"slow beyond": {Probed(Gateway, 20, 20, .4), evidence.Burst{}, Probed(Bookings, 20, 20, 700), zone.Unknown, zone.Beyond},
		"slow on the segment": {Probed(Gateway, 20, 20, 500), evidence.Burst{}, Probed(Bookings, 20, 20, 520), zone.Unknown,
			zone.LocalSubnet},
	} {
		s := Healthy()
		for _, b := range []evidence.Burst{c.gateway, c.neighbour, c.target} {
			if b.Sent > 0 {
				s.Bursts = append(s.Bursts, b)
			}
		}
		f := facts.New(s)
		assert.Equal(t, c.loss, f.LossZone(), "%s: loss", name)
		assert.Equal(t, c.delay, f.DelayZone(), "%s: delay", name)
	}
}

// A list that was handed out can be added to without changing what the next one gets.
func TestFactsAreWorkedOutOnceAndStay(t *testing.T) {
	s := Healthy()
	Leased(s, time.Minute, Offer(24).Terms)
	f := facts.New(s)
	routers := f.RoutersNamed()
	assert.Equal(t, []netip.Addr{Gateway}, routers)
	assert.Contains(t, append(routers, stray), stray)
	assert.Equal(t, []netip.Addr{Gateway}, f.RoutersNamed())

	assert.Subset(t, f.Witnesses(), []netip.Addr{NS, Bookings})
	assert.NotContains(t, f.Witnesses(), Gateway, "a neighbour shows nothing of what lies beyond")
	assert.NotContains(t, f.Witnesses(), Edge, "a router on the way is no end host")
	l, held := f.Lease()
	again, _ := f.Lease()
	assert.True(t, held)
	assert.Equal(t, l, again)
}

// Without a target, somebody past the gateway must have answered: an end host, and a router only where no end host is known.
func TestWhoAnswersBeyond(t *testing.T) {
	for name, c := range map[string]struct {
		change func(*evidence.Set)
		who    netip.Addr
	}{
		"an end host": {func(*evidence.Set) {}, Bookings},
		"routers alone, and a server that keeps silent": {func(s *evidence.Set) {
			CutAfter(s, Gateway, Edge, Provider)
			s.Echoes, s.Lookups = s.Echoes[:1], s.Lookups[:1]
		}, netip.Addr{}},
		"routers alone, where no server is known": {func(s *evidence.Set) {
			s.Endpoint.Resolvers = s.Endpoint.Resolvers[:1]
			s.Echoes, s.Lookups, s.Hops = s.Echoes[:1], s.Lookups[:1], Path(evidence.Unassigned, Gateway, Edge, netip.Addr{})
		}, Edge},
		"nobody": {Cut, netip.Addr{}},
	} {
		s := Healthy()
		s.Target, s.Connects, s.Routes, s.Webs = target.Target{}, nil, nil, nil
		c.change(s)
		who, ok := facts.New(s).AnswersBeyond()
		assert.Equal(t, c.who, who, name)
		assert.Equal(t, c.who.IsValid(), ok, name)
		if !ok {
			assert.NotEqual(t, facts.Yes, facts.New(s).Usable(), name)
		}
	}
}

func TestWhoEndsThePath(t *testing.T) {
	s := Healthy()
	CutAfter(s, Gateway, Edge, Provider)
	s.Echoes, s.Connects = s.Echoes[:1], nil
	end, n, ok := facts.New(s).CommonEnd()
	assert.True(t, ok)
	assert.Equal(t, Provider, end.From)
	assert.Equal(t, 2, n, "the way to the target and to the name server")

	s.Hops = append(Path(Bookings, Gateway, Edge, Provider, netip.Addr{}), Path(NS, Gateway, Edge, netip.Addr{})...)
	_, _, ok = facts.New(s).CommonEnd()
	assert.False(t, ok, "they end at different routers")

	s.Hops = Path(Bookings, Gateway, Edge, Provider, Edge, Provider, Edge)
	a, b, ok := facts.New(s).Loop()
	assert.True(t, ok)
	assert.ElementsMatch(t, []netip.Addr{Edge, Provider}, []netip.Addr{a, b})
}
