package change_test

import (
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/change"
	"passepartout/internal/core/dhcp"
	"passepartout/internal/core/endpoint"
)

func TestWhatAPersonWrites(t *testing.T) {
	step := func(o change.Op, err error) (string, error) { return o.String(), err }
	for _, c := range []struct {
		name    string
		read    func(words []string) (string, error)
		text    string
		is      string // what is read
		refused string // or why not
	}{
		{"route", func(w []string) (string, error) { return step(change.ParseRoute(w, "eth0")) }, "203.0.113.0/24 172.27.40.1",
			"adds the route 203.0.113.0/24 by 172.27.40.1 on eth0", ""},
		{"route", func(w []string) (string, error) { return step(change.ParseRoute(w, "eth0")) }, "default 172.27.40.1 100",
			"adds the route to everywhere by 172.27.40.1 on eth0", ""},
		{"route", func(w []string) (string, error) { return step(change.ParseRoute(w, "eth0")) }, "default fe80::1",
			"adds the route to everywhere by fe80::1 on eth0", ""},
		{"route", func(w []string) (string, error) { return step(change.ParseRoute(w, "eth0")) }, "203.0.113.9/32",
			"adds the route 203.0.113.9/32 on eth0 itself", ""},
		{"route", func(w []string) (string, error) { return step(change.ParseRoute(w, "eth0")) }, "", "", "give where it leads"},
		{"route", func(w []string) (string, error) { return step(change.ParseRoute(w, "eth0")) }, "203.0.113.0", "", "prefix length"},
		{"route", func(w []string) (string, error) { return step(change.ParseRoute(w, "eth0")) }, "default router", "", "no address"},
		{"route", func(w []string) (string, error) { return step(change.ParseRoute(w, "eth0")) }, "default 172.27.40.1 -4", "", "no metric"},
		{"entry", func(w []string) (string, error) { return step(change.ParseNeighbour(w, "eth0")) }, "172.27.40.1 0200.0000.2801",
			"fixes 172.27.40.1 at 02:00:00:00:28:01 on eth0", ""},
		{"entry", func(w []string) (string, error) { return step(change.ParseNeighbour(w, "eth0")) }, "172.27.40.1", "", "its hardware address"},
		{"entry", func(w []string) (string, error) { return step(change.ParseNeighbour(w, "eth0")) }, "172.27.40.1 02:00", "", "six octets"},
		{"search list", func(w []string) (string, error) {
			o, err := change.ParseSearch(w, "eth0", []netip.Addr{netip.MustParseAddr("172.27.40.2")})
			return o.String() + ": " + strings.Join(o.Search, " "), err
		}, "kittiwake.example pier.example", "sets the name servers to 172.27.40.2: kittiwake.example pier.example", ""},
		{"search list", func(w []string) (string, error) { return step(change.ParseSearch(w, "eth0", nil)) }, "10.0.0.1", "", "no domain"},
		{"search list", func(w []string) (string, error) { return step(change.ParseSearch(w, "eth0", nil)) }, "pier.example:53", "", "no domain"},
		{"device", func(w []string) (string, error) { p, err := change.ParseDevice(w[0]); return p.String(), err }, "192.168.1.1",
			"192.168.1.1/24", ""},
		{"device", func(w []string) (string, error) { p, err := change.ParseDevice(w[0]); return p.String(), err }, "lock", "",
			"the device's address"},
		{"how long", func(w []string) (string, error) { l, err := change.ParseLast(w[0]); return l.String(), err }, "10m", "for 10m0s", ""},
		{"how long", func(w []string) (string, error) { l, err := change.ParseLast(w[0]); return l.String(), err }, "for-good", "for-good", ""},
		{"how long", func(w []string) (string, error) { l, err := change.ParseLast(w[0]); return l.String(), err }, "9s", "", "10s to 24h"},
		{"how long", func(w []string) (string, error) { l, err := change.ParseLast(w[0]); return l.String(), err }, "ever", "", "give now"},
	} {
		is, err := c.read(strings.Fields(c.text))
		if c.refused != "" {
			require.ErrorContains(t, err, c.refused, "%s %q", c.name, c.text)
			assert.NotContains(t, err.Error(), "\n")
			continue
		}
		require.NoError(t, err, "%s %q", c.name, c.text)
		assert.Equal(t, c.is, is, "%s %q", c.name, c.text)
	}
}

func TestHowLongAChangeLasts(t *testing.T) {
	set := change.Change{Set: &change.Static{Interface: "eth0", Address: netip.MustParsePrefix("172.27.40.23/24")}}
	leased := change.Change{Set: &change.Static{Interface: "eth0", Leased: &dhcp.Terms{}}}
	address := change.Change{Steps: []change.Op{{Do: change.AddAddress, Interface: "eth0", Prefix: netip.MustParsePrefix("192.168.1.2/24")}}}
	route := change.Change{Steps: []change.Op{{Do: change.AddRoute, Interface: "eth0", Prefix: netip.MustParsePrefix("203.0.113.0/24")}}}
	for _, c := range []struct {
		change  change.Change
		last    change.Last
		refused string
	}{
		{set, change.Last{ForGood: true}, ""}, {set, change.Last{For: time.Hour}, ""}, {address, change.Last{For: time.Hour}, ""},
		{route, change.Last{}, ""}, {route, change.Last{For: time.Hour}, "only addresses go by themselves"},
		{address, change.Last{ForGood: true}, "for good is set"}, {leased, change.Last{ForGood: true}, "for good is set"},
		{leased, change.Last{For: time.Hour}, "a lease says itself"},
	} {
		got, err := c.change.Lasting(c.last)
		if c.refused != "" {
			assert.ErrorContains(t, err, c.refused)
			continue
		}
		require.NoError(t, err)
		if s := got.Set; s != nil {
			assert.Equal(t, c.last, change.Last{ForGood: s.ForGood, For: s.For})
		} else {
			assert.Equal(t, c.last.For, got.Steps[0].For)
		}
		now, err := got.Lasting(change.Last{}) // and back again
		require.NoError(t, err)
		assert.Equal(t, c.change, now)
	}
}

func TestWhatCanBeTakenAway(t *testing.T) {
	s := change.Settings{
		Addresses: []change.Address{{Interface: "eth0", Prefix: netip.MustParsePrefix("172.27.40.23/24")},
			{Interface: "eth1", Prefix: netip.MustParsePrefix("198.51.100.9/24")}},
		Routes:     []change.Route{{To: netip.MustParsePrefix("0.0.0.0/0"), Via: netip.MustParseAddr("172.27.40.1"), Interface: "eth0"}},
		Neighbours: []change.Neighbour{{Interface: "eth0", Address: netip.MustParseAddr("172.27.40.1"), Hardware: endpoint.HardwareAddr{2}}},
		Rules:      []change.Rule{{Priority: 32766, Table: 254}, {Priority: 100, From: netip.MustParsePrefix("172.27.40.23/32"), Table: 7}},
		Hosts: []change.Host{{Address: netip.MustParseAddr("127.0.0.1"), Name: "localhost"},
			{Address: netip.MustParseAddr("203.0.113.9"), Name: "bookings.kittiwake.example"}},
	}
	var words []string
	for _, o := range s.Removals("eth0") {
		words = append(words, o.String())
	}
	assert.Equal(t, []string{"takes the address 172.27.40.23/24 from eth0", "takes the route to everywhere by 172.27.40.1 on eth0 away",
		"takes the entry of 172.27.40.1 on eth0 away", "takes the rule 100: from 172.27.40.23/32 by table 7 away",
		"takes bookings.kittiwake.example at 203.0.113.9 out of the hosts file"}, words)
}
