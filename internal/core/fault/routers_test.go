package fault_test

import (
	"net/netip"

	"passepartout/internal/core/evidence"
	. "passepartout/internal/core/evidence/evidencetest"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/zone"
)

// second adds a default router with that metric beside the gateway, whose own is 100.
func second(s *evidence.Set, metric int) {
	s.Endpoint.Routes[0].Metric = 100
	beside := s.Endpoint.Routes[0]
	beside.Via, beside.Metric = stray, metric
	s.Endpoint.Routes = append(s.Endpoint.Routes, beside)
}

// handed is what comes of the target when it is handed to a router.
func handed(s *evidence.Set, by netip.Addr, r evidence.Reply) {
	s.Handoffs = append(s.Handoffs, evidence.Handoff{To: Bookings, By: by, HopLimit: 64, Reply: r})
}

var routersCases = []testCase{
	{name: "the router that is taken leads nowhere, the one in reserve leads on", change: func(s *evidence.Set) {
		Cut(s)
		second(s, 200)
		handed(s, stray, Answer(Bookings, 20))
	}, zone: zone.LocalSubnet, fault: "router-leads-nowhere", confidence: verdict.Certain, says: "172.27.40.1 leads nowhere",
		next: "Take the default route by 172.27.40.1 away"},
	{name: "neither leads on", change: func(s *evidence.Set) {
		Cut(s)
		second(s, 200)
		handed(s, stray, Silence())
	}, zone: zone.LocalSubnet, fault: "gateway-does-not-forward", cleared: []string{"router-leads-nowhere"}},
	{name: "whether the one in reserve leads on could not be asked", change: func(s *evidence.Set) {
		CutAfter(s, Gateway)
		second(s, 200)
	}, zone: zone.Undetermined, possible: []string{"router-leads-nowhere", "uplink-down"}},
	{name: "the router in reserve is dead, and nobody needs it", change: func(s *evidence.Set) {
		second(s, 200)
		handed(s, stray, Silence())
	}, zone: zone.None, cleared: []string{"router-leads-nowhere"}},
	{name: "of two that share the traffic one leads nowhere, which takes it by addresses alone", change: func(s *evidence.Set) {
		second(s, 100)
		handed(s, stray, Silence())
		handed(s, Gateway, Answer(Bookings, 20))
		s.Bursts = []evidence.Burst{Connected(40, 40, 20)}
	}, zone: zone.None, also: []string{"router-leads-nowhere"}},
	{name: "of two that share the traffic one leads nowhere, and every second connection takes it", change: func(s *evidence.Set) {
		second(s, 100)
		handed(s, stray, Silence())
		handed(s, Gateway, Answer(Bookings, 20))
		s.Bursts = []evidence.Burst{Probed(Gateway, 20, 20, 0.4), Connected(19, 40, 20)}
	}, zone: zone.LocalSubnet, fault: "router-leads-nowhere", says: "172.27.40.66 leads nowhere"},
	{name: "they share it, none could be asked, and every second connection comes about", change: func(s *evidence.Set) {
		WithoutFrames(s)
		second(s, 100)
		s.Bursts = []evidence.Burst{Probed(Gateway, 20, 20, 0.4), Connected(19, 40, 20)}
	}, zone: zone.LocalSubnet, fault: "router-leads-nowhere", confidence: verdict.Likely, says: "one seems to lead nowhere"},
	{name: "another target has answered by the router that is taken", change: func(s *evidence.Set) {
		Unserved(s)
		s.Echoes = s.Echoes[:1]
		s.Hops = Path(NS, Gateway, Edge, Provider, Exchange, NS)
		second(s, 200)
		handed(s, stray, Answer(Bookings, 20))
	}, zone: zone.Beyond, fault: "destination-silent", cleared: []string{"router-leads-nowhere"}},
}
