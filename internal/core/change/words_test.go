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
	route := func(w []string) (string, error) { o, err := change.ParseRoute(w, "eth0"); return o.String(), err }
	entry := func(w []string) (string, error) { o, err := change.ParseNeighbour(w, "eth0"); return o.String(), err }
	search := func(w []string) (string, error) {
		o, err := change.ParseSearch(w, "eth0", []netip.Addr{netip.MustParseAddr("172.27.40.2")})
		return o.String() + ": " + strings.Join(o.Search, " "), err
	}
	device := func(w []string) (string, error) { p, err := change.ParseDevice(w[0]); return p.String(), err }
	last := func(w []string) (string, error) { l, err := change.ParseLast(w[0]); return l.String(), err }
	for _, c := range []struct {
		read    func(words []string) (string, error)
		text    string
		is      string // what is read
		refused string // or why not
	}{
		{route, "203.0.113.0/24 172.27.40.1",
			"adds the route 203.0.113.0/24 by 172.27.40.1 on eth0", ""},
		{route, "default 172.27.40.1 100",
			"adds the route to everywhere by 172.27.40.1 on eth0", ""},
		{route, "default fe80::1",
			"adds the route to everywhere by fe80::1 on eth0", ""},
		{route, "203.0.113.9/32",
			"adds the route 203.0.113.9/32 on eth0 itself", ""},
		{route, "", "", "give where it leads"},
		{route, "203.0.113.0", "", "prefix length"},
		{route, "default router", "", "no address"},
		{route, "default 172.27.40.1 -4", "", "no metric"},
		{entry, "172.27.40.1 0200.0000.2801",
			"fixes 172.27.40.1 at 02:00:00:00:28:01 on eth0", ""},
		{entry, "172.27.40.1", "", "its hardware address"},
		{entry, "172.27.40.1 02:00", "", "six octets"},
		{search, "kittiwake.example pier.example", "sets the name servers to 172.27.40.2: kittiwake.example pier.example", ""},
		{search, "10.0.0.1", "", "no domain"},
		{search, "pier.example:53", "", "no domain"},
		{device, "192.168.1.1",
			"192.168.1.1/24", ""},
		{device, "lock", "",
			"the device's address"},
		{last, "10m", "for 10m0s", ""},
		{last, "for-good", "for-good", ""},
		{last, "9s", "", "10s to 24h"},
		{last, "ever", "", "give now"},
	} {
		is, err := c.read(strings.Fields(c.text))
		if c.refused != "" {
			require.ErrorContains(t, err, c.refused, "%q", c.text)
			assert.NotContains(t, err.Error(), "\n")
			continue
		}
		require.NoError(t, err, "%q", c.text)
		assert.Equal(t, c.is, is, "%q", c.text)
	}
}

func TestHowLongAChangeLasts(t *testing.T) {
	set := change.Change{Set: &change.Static{Interface: "eth0", Address: netip.MustParsePrefix("172.27.40.23/24")}}
	leased := change.Change{Set: &change.Static{Interface: "eth0", Leased: &dhcp.Terms{}}}
	one := func(do change.Do, prefix string) change.Change {
		return change.Change{Steps: []change.Op{{Do: do, Interface: "eth0", Prefix: netip.MustParsePrefix(prefix)}}}
	}
	address, route := one(change.AddAddress, "192.168.1.2/24"), one(change.AddRoute, "203.0.113.0/24")
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
		Routes: []change.Route{{To: netip.MustParsePrefix("0.0.0.0/0"), Via: netip.MustParseAddr("172.27.40.1"), Interface: "eth0"}},
		Neighbours: []change.Neighbour{
			{Interface: "eth0", Address: netip.MustParseAddr("172.27.40.1"), Hardware: endpoint.HardwareAddr{2}}},
		Rules: []change.Rule{{Priority: 32766, Table: 254},
			{Priority: 100, From: netip.MustParsePrefix("172.27.40.23/32"), Table: 7}},
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
