package endpoint_test

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"

	"passepartout/internal/core/endpoint"
)

func TestRulesChooseTheTable(t *testing.T) {
	prefix := netip.MustParsePrefix
	own := endpoint.Interface{Name: "eth0", Addresses: []endpoint.Address{{Prefix: prefix("172.27.40.23/24")}}}
	route := func(to, via string, table int) endpoint.Route {
		return endpoint.Route{To: prefix(to), Via: netip.MustParseAddr(via), Interface: "eth0", Table: table, Verdict: endpoint.Forward}
	}
	routes := []endpoint.Route{route("0.0.0.0/0", "172.27.40.1", 254), route("203.0.113.80/32", "172.27.40.3", 254),
		route("0.0.0.0/0", "172.27.40.9", 100), route("10.0.0.0/8", "172.27.40.8", 101)}
	bookings := "203.0.113.80"
	for _, c := range []struct {
		name  string
		rules []endpoint.Rule
		to    string
		want  string // the next hop; "" for none
		ruled bool
	}{
		{"no rules", nil, bookings, "172.27.40.3", false},
		{"all packets", []endpoint.Rule{{Table: 100}}, bookings, "172.27.40.9", true},
		{"to the target", []endpoint.Rule{{To: prefix("203.0.113.0/24"), Table: 100}}, bookings, "172.27.40.9", true},
		{"to somewhere else", []endpoint.Rule{{To: prefix("198.51.100.0/24"), Table: 100}}, bookings, "172.27.40.3", false},
		{"from here", []endpoint.Rule{{From: prefix("172.27.40.0/24"), Table: 100}}, bookings, "172.27.40.9", true},
		{"from another address", []endpoint.Rule{{From: prefix("172.27.40.99/32"), Table: 100}}, bookings, "172.27.40.3", false},
		{"with a mark", []endpoint.Rule{{Mark: true, Table: 100}}, bookings, "172.27.40.3", false},
		{"without a mark, as tunnels have it", []endpoint.Rule{{Table: 254, LeastBits: 1}, {Mark: true, Not: true, Table: 100}},
			"203.0.113.53",
			"172.27.40.9", true},
		{"and what the main table has of its own stays", []endpoint.Rule{{Table: 254, LeastBits: 1}, {Mark: true, Not: true, Table: 100}},
			bookings,
			"172.27.40.3", false},
		{"a table that says nothing of it", []endpoint.Rule{{Table: 101}}, bookings, "172.27.40.3", false},
		{"the first that fits", []endpoint.Rule{{Table: 101}, {Table: 100}}, "10.1.2.3", "172.27.40.8", true},
		{"of packets that came in", []endpoint.Rule{{Incoming: true, Table: 100}}, bookings, "172.27.40.3", false},
		{"of the other family", []endpoint.Rule{{IPv6: true, Table: 100}}, bookings, "172.27.40.3", false},
		{"refused", []endpoint.Rule{{To: prefix("203.0.113.0/24"), Refuses: true}}, bookings, "", true},
	} {
		e := &endpoint.Endpoint{Interfaces: []endpoint.Interface{own}, Routes: routes, Rules: c.rules}
		_, _, ruled := e.Ruled(netip.MustParseAddr(c.to))
		assert.Equal(t, c.ruled, ruled, c.name)
		via, ok := e.NextHop(netip.MustParseAddr(c.to))
		assert.Equal(t, c.want != "", ok, c.name)
		if ok {
			assert.Equal(t, c.want, via.String(), c.name)
		}
	}
	assert.Equal(t, "rule 1000, for packets from 172.27.40.0/24 to 203.0.113.0/24: table 100",
		endpoint.Rule{Priority: 1000, From: prefix("172.27.40.0/24"), To: prefix("203.0.113.0/24"), Table: 100}.String())
	assert.Equal(t, "rule 7, for all but packets with a mark: refused",
		endpoint.Rule{Priority: 7, Mark: true, Not: true, Refuses: true}.String())
}
