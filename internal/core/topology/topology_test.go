package topology_test

import (
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"passepartout/internal/core/evidence"
	. "passepartout/internal/core/evidence/evidencetest"
	"passepartout/internal/core/target"
	"passepartout/internal/core/topology"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/zone"
)

func row(stations []topology.Station) string {
	var out []string
	for _, s := range stations {
		text := s.State.String() + " " + s.Label
		if s.Note != "" {
			text += " " + s.Note
		}
		out = append(out, text)
	}
	return strings.Join(out, ", ")
}

func TestOf(t *testing.T) {
	for _, c := range []struct {
		name                       string
		change                     func(*evidence.Set)
		host, local, names, beyond string
		broken                     zone.Zone
	}{
		{name: "healthy",
			host:   "holds loopback, holds eth0, holds .23/24",
			local:  "holds 1 neighbour, holds .2 DHCP · names, holds .1 gateway",
			names:  "holds 203.0.113.53 names",
			beyond: "holds 198.51.100.1, holds 198.51.100.9, holds 198.51.100.13, holds bookings :443"},
		{name: "stations are called by their names", change: func(s *evidence.Set) {
			s.Names = []evidence.Named{{Address: Gateway, Name: "pier-gw.kittiwake.example"},
				{Address: Edge, Name: "sound-edge.kittiwake.example"}, {Address: NS, Name: "ns.elsewhere.example"}}
		},
			host:   "holds loopback, holds eth0, holds .23/24",
			local:  "holds 1 neighbour, holds .2 DHCP · names, holds pier-gw .1 gateway",
			names:  "holds ns.elsewhere.example names",
			beyond: "holds sound-edge, holds 198.51.100.9, holds 198.51.100.13, holds bookings :443"},
		{name: "the gateway is the name server too", change: func(s *evidence.Set) {
			s.Endpoint.Resolvers[0].Address, s.Lookups[0].Server, s.Lookups[0].From = Gateway, Gateway, Gateway
		},
			host:   "holds loopback, holds eth0, holds .23/24",
			local:  "holds 1 neighbour, holds .2 DHCP, holds .1 gateway · names",
			names:  "holds 203.0.113.53 names",
			beyond: "holds 198.51.100.1, holds 198.51.100.9, holds 198.51.100.13, holds bookings :443"},
		{name: "the gateway is gone, what lies behind is not judged", change: GatewayGone, broken: zone.LocalSubnet,
			host:   "holds loopback, holds eth0, holds .23/24",
			local:  "holds 1 neighbour, holds .2 DHCP · names, broken .1 silent",
			names:  "unknown 203.0.113.53 names",
			beyond: "unknown bookings :443"},
		{name: "the router that is taken answers, and leads nowhere", change: func(s *evidence.Set) {
			Cut(s)
			second := s.Endpoint.Routes[0]
			second.Via, second.Metric = netip.MustParseAddr("172.27.40.66"), 200
			s.Endpoint.Routes = append(s.Endpoint.Routes, second)
			s.Echoes[0].Reply = Answer(Gateway, 0.4)
			s.Handoffs = []evidence.Handoff{{To: Bookings, By: second.Via, HopLimit: 64, Reply: Answer(Bookings, 20)}}
		}, broken: zone.LocalSubnet,
			host:   "holds loopback, holds eth0, holds .23/24",
			local:  "holds 1 neighbour, holds .2 DHCP · names, broken .1 gateway",
			names:  "unknown 203.0.113.53 names",
			beyond: "unknown uplink, unknown bookings :443"},
		{name: "refused", change: func(s *evidence.Set) {
			s.Connects[0].Reply = evidence.Reply{Outcome: evidence.Refused, From: Bookings}
		}, broken: zone.Beyond,
			host:   "holds loopback, holds eth0, holds .23/24",
			local:  "holds 1 neighbour, holds .2 DHCP · names, holds .1 gateway",
			names:  "holds 203.0.113.53 names",
			beyond: "holds 198.51.100.1, holds 198.51.100.9, holds 198.51.100.13, broken bookings :443"},
		{name: "a dead second name server is strained", change: func(s *evidence.Set) {
			s.Lookups[1].Reply, s.Lookups[1].Addresses = Silence(), nil
		},
			host:   "holds loopback, holds eth0, holds .23/24",
			local:  "holds 1 neighbour, holds .2 DHCP · names, holds .1 gateway",
			names:  "strained 203.0.113.53 names",
			beyond: "holds 198.51.100.1, holds 198.51.100.9, holds 198.51.100.13, holds bookings :443"},
		{name: "no target", change: func(s *evidence.Set) { s.Target = target.Target{}; s.Connects = nil },
			host:  "holds loopback, holds eth0, holds .23/24",
			local: "holds 1 neighbour, holds .2 DHCP · names, holds .1 gateway",
			names: "holds 203.0.113.53 names"},
		{name: "no address", change: func(s *evidence.Set) {
			*s = evidence.Set{Target: s.Target, Interface: "eth0", Endpoint: s.Endpoint, Discovery: s.Discovery}
			Interface(s).Addresses, s.Endpoint.Routes, s.Endpoint.Resolvers = nil, nil, nil
		}, broken: zone.Host,
			host:   "unknown loopback, holds eth0, broken no address",
			local:  "holds 172.27.40.2 DHCP, unknown no gateway",
			beyond: "unknown bookings :443"},
		{name: "nothing known", change: func(s *evidence.Set) { *s = evidence.Set{} }},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := Healthy()
			if c.change != nil {
				c.change(s)
			}
			l := topology.Of(s, verdict.Judge(s))
			assert.Equal(t, c.host, row(l.Host))
			assert.Equal(t, c.local, row(l.Local))
			assert.Equal(t, c.names, row(l.Names))
			assert.Equal(t, c.beyond, row(l.Beyond))
			assert.Equal(t, c.broken, l.Broken)
		})
	}
	assert.Equal(t, ".23", topology.Tail(Own))
	assert.Equal(t, "2001:db8::1", topology.Tail(netip.MustParseAddr("2001:db8::1")))
}
