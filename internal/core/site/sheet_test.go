package site_test

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/endpoint"
	. "passepartout/internal/core/evidence/evidencetest"
	"passepartout/internal/core/site"
	"passepartout/internal/core/target"
)

var (
	addr   = netip.MustParseAddr
	prefix = netip.MustParsePrefix
	card   = endpoint.HardwareAddr{2, 0, 0, 0, 0x10, 0x17}
	other  = endpoint.HardwareAddr{2, 0, 0, 0, 0x10, 0x18}
)

func twoPiers() *site.Sheet {
	return &site.Sheet{Networks: []site.Network{
		{Name: "pier", Prefixes: []netip.Prefix{prefix("172.27.40.0/24"), prefix("2001:db8:40::/64")},
			Gateways: []netip.Addr{addr("172.27.40.1")}, DHCP: []netip.Addr{addr("172.27.40.2")},
			Resolvers: []netip.Addr{addr("172.27.40.3")},
			Ranges:    []site.Range{{From: addr("172.27.40.100"), To: addr("172.27.40.199"), Use: "leases"}},
			Fixed: []site.Fixed{{Address: addr("172.27.40.23"), Name: "ticket-03.kittiwake.example"},
				{Address: addr("172.27.40.50"), Name: "printer", Hardware: other}}},
		{Name: "quay", Prefixes: []netip.Prefix{prefix("172.27.0.0/16")},
			Fixed: []site.Fixed{{Address: addr("172.27.50.9"), Hardware: card}}},
	}}
}

func TestWhichNetworkIsTheMachines(t *testing.T) {
	for _, c := range []struct {
		name, host string
		hardware   endpoint.HardwareAddr
		sheet      *site.Sheet
		want       string
	}{
		{"by its name, with or without the domain", "TICKET-03", endpoint.HardwareAddr{}, twoPiers(), "pier"},
		{"its hardware address counts wherever it stands", "nobody", card, twoPiers(), "quay"},
		{"not listed, and there are two", "nobody", endpoint.HardwareAddr{9}, twoPiers(), ""},
		{"not listed, and there is one", "nobody", endpoint.HardwareAddr{9}, &site.Sheet{Networks: twoPiers().Networks[:1]}, "pier"},
		{"no sheet", "ticket-03", card, nil, ""},
	} {
		n, ok := c.sheet.Home(c.host, c.hardware)
		assert.Equal(t, c.want != "", ok, c.name)
		assert.Equal(t, c.want, n.Name, c.name)
	}
	n, ok := twoPiers().At(addr("172.27.40.9"))
	assert.True(t, ok)
	assert.Equal(t, "pier", n.Name, "the narrowest that holds it")
	_, ok = twoPiers().At(addr("10.0.0.1"))
	assert.False(t, ok)
}

func TestWhatAnAddressIsFor(t *testing.T) {
	n := twoPiers().Networks[0]
	for a, want := range map[string]string{"172.27.40.1": "gateway", "172.27.40.2": "DHCP server", "172.27.40.3": "name server",
		"172.27.40.50": "printer", "172.27.40.100": "leases", "172.27.40.199": "leases", "172.27.40.200": "", "172.27.40.99": ""} {
		assert.Equal(t, want, n.Use(addr(a)), a)
	}
	assert.True(t, n.Overlaps(prefix("172.27.0.0/16")))
	assert.False(t, n.Overlaps(prefix("10.0.0.0/8")))
	gw, ok := n.Gateway(true)
	assert.False(t, ok, gw.String())
	p, ok := n.Prefix(true)
	assert.True(t, ok)
	assert.Equal(t, "2001:db8:40::/64", p.String())
}

func TestTimeThatAServiceMayTake(t *testing.T) {
	parse := func(s string) target.Target {
		x, err := target.Parse(s)
		require.NoError(t, err)
		return x
	}
	s := &site.Sheet{
		Services: []site.Service{{Target: parse("bookings.kittiwake.example:443"), Delay: 200 * time.Millisecond},
			{Target: parse("weather.kittiwake.example")}}}
	d, ok := s.Allowed(parse("bookings.kittiwake.example:443"))
	assert.True(t, ok)
	assert.Equal(t, 200*time.Millisecond, d)
	for _, text := range []string{"bookings.kittiwake.example:80", "weather.kittiwake.example:443", "other.example"} {
		_, ok = s.Allowed(parse(text))
		assert.False(t, ok, text)
	}
}

// A sheet that was learnt from a healthy machine says of it what the machine says of itself, and lists nobody whose address is lent.
func TestLearn(t *testing.T) {
	s := Healthy()
	sheet := site.Learn(
		site.Learnt{Endpoint: s.Endpoint, Interface: "eth0", DHCP: []netip.Addr{Core}, Routers: []endpoint.HardwareAddr{other},
			Switch: "pier-switch-1", VLAN: 40, Services: []target.Target{s.Target, {}},
			Met: []site.Fixed{{Address: Core, Hardware: other}, {Address: addr("172.27.40.50"), Name: "label-printer"},
				{Address: addr("172.27.40.150"), Hardware: card}, {Address: addr("10.9.9.9"), Name: "stranger"}}})
	require.Len(t, sheet.Networks, 1)
	n := sheet.Networks[0]
	assert.True(t, n.Contains(Own))
	assert.Equal(t, Gateway, n.Gateways[0])
	assert.Contains(t, n.Resolvers, Core)
	var listed []netip.Addr
	for _, f := range n.Fixed {
		listed = append(listed, f.Address)
	}
	assert.ElementsMatch(t, []netip.Addr{Own, Core, addr("172.27.40.50")}, listed)
	assert.Len(t, sheet.Services, 1)
	assert.Equal(t, 40, n.VLAN)
	assert.Empty(t, site.Learn(site.Learnt{Endpoint: s.Endpoint, Interface: "nosuch"}).Networks)
}
