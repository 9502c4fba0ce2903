package fault_test

import (
	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	. "passepartout/internal/core/evidence/evidencetest"
	"passepartout/internal/core/site"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/zone"
)

var neighboursCases = []testCase{
	{name: "pinned to another card", change: func(s *evidence.Set) { Cut(s); believes(s, Gateway, laptop, endpoint.Permanent) },
		zone: zone.Host, fault: "neighbour-entry-pinned", confidence: verdict.Certain, says: "02:00:00:00:00:99",
		next: "ip neigh del 172.27.40.1", possible: []string{"gateway-does-not-forward"}},
	{name: "pinned, and right", change: func(s *evidence.Set) { believes(s, Gateway, gwCard, endpoint.Permanent) }, zone: zone.None,
		cleared: []string{"neighbour-entry-pinned"}},
	{name: "pinned, and unseen without frames", change: func(s *evidence.Set) {
		Cut(s)
		believes(s, Gateway, laptop, endpoint.Permanent)
		s.Neighbours = s.Neighbours[1:]
		WithoutFrames(s)
	}, zone: zone.Host, fault: "neighbour-entry-pinned", confidence: verdict.Likely},
	{name: "pinned otherwise than documented", change: func(s *evidence.Set) {
		Cut(s)
		believes(s, Gateway, laptop, endpoint.Permanent)
		s.Neighbours = nil
		s.Sheet = pier()
		s.Sheet.Networks[0].Fixed = append(s.Sheet.Networks[0].Fixed, site.Fixed{Address: Gateway, Hardware: gwCard})
	}, zone: zone.Host, fault: "neighbour-entry-pinned", says: "site sheet says 02:00:00:00:00:01"},
	{name: "two answer for the gateway", change: func(s *evidence.Set) {
		Cut(s)
		believes(s, Gateway, laptop, endpoint.Reachable)
		held(s, gwCard, laptop)
	}, zone: zone.LocalSubnet, fault: "gateway-impersonated", confidence: verdict.Certain, says: "Two machines answer",
		possible: []string{"gateway-does-not-forward"}},
	{name: "two answer, one of them has an address of its own", change: func(s *evidence.Set) {
		Cut(s)
		held(s, gwCard, laptop)
		s.Neighbours = append(s.Neighbours,
			evidence.Neighbour{Asked: board, Method: "arp", Hardware: []endpoint.HardwareAddr{laptop}, Reply: Answer(board, 1)})
	}, zone: zone.LocalSubnet, fault: "gateway-impersonated", next: "hardware address 02:00:00:00:00:99"},
	{name: "two answer, and traffic passes", change: func(s *evidence.Set) { held(s, gwCard, laptop) }, zone: zone.None,
		also: []string{"gateway-impersonated"}},
	{name: "the gateway has another card than before",
		change: func(s *evidence.Set) { Cut(s); believes(s, Gateway, laptop, endpoint.Stale) }, zone: zone.LocalSubnet,
		fault: "gateway-impersonated", confidence: verdict.Likely},
	{name: "routers that share a card", change: func(s *evidence.Set) { believes(s, Gateway, vrrp, endpoint.Reachable); held(s, gwCard) },
		zone: zone.None, cleared: []string{"gateway-impersonated"}, remarks: []string{"redundant-gateway"}},
	{name: "both cards are documented", change: func(s *evidence.Set) {
		held(s, gwCard, laptop)
		s.Sheet = pier()
		s.Sheet.Networks[0].Routers = []endpoint.HardwareAddr{gwCard, laptop}
	}, zone: zone.None, cleared: []string{"gateway-impersonated"}},
	{name: "a card that is not documented", change: func(s *evidence.Set) {
		s.Sheet = pier()
		s.Sheet.Networks[0].Routers = []endpoint.HardwareAddr{laptop}
	}, zone: zone.None, also: []string{"gateway-impersonated"}},
}
