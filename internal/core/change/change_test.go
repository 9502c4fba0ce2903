package change_test

import (
	"fmt"
	"net/netip"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"passepartout/internal/core/change"
	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/site"
)

var (
	prefix = netip.MustParsePrefix
	addr   = netip.MustParseAddr
)

// counter is a machine as it stands at the pier.
func counter() change.Settings {
	s, err := change.Change{}.To(change.Settings{
		Links:     []change.Link{{"eth0", true, 1500}, {"eth1", false, 1500}},
		Addresses: []change.Address{{"eth0", prefix("172.27.40.23/24")}, {"eth0", prefix("2001:db8:40::23/64")}},
		Routes: []change.Route{{To: prefix("0.0.0.0/0"), Via: addr("172.27.40.1"), Interface: "eth0"},
			{To: prefix("::/0"), Via: addr("2001:db8:40::1"), Interface: "eth0"}},
		Resolvers: []netip.Addr{addr("172.27.40.2"), addr("203.0.113.53")}, Search: []string{"kittiwake.example"}})
	if err != nil {
		panic(err)
	}
	return s
}

var (
	someAddresses = []netip.Prefix{prefix("172.27.40.23/24"), prefix("172.27.40.24/24"), prefix("172.27.41.9/24"), prefix("10.9.8.7/30"),
		prefix("172.27.40.23/16"), prefix("198.51.100.7/32"), prefix("2001:db8:40::23/64"), prefix("2001:db8:40::24/64"),
		prefix("2001:db8:41::1/128")}
	someRoutes = []netip.Prefix{prefix("0.0.0.0/0"), prefix("203.0.113.0/24"), prefix("192.0.2.1/32"), prefix("::/0"),
		prefix("2001:db8:113::/48")}
	someVias = []netip.Addr{{}, addr("172.27.40.1"), addr("172.27.41.1"), addr("10.9.8.5"), addr("2001:db8:40::1"), addr("fe80::1")}
)

// step is any step that the system may be told.
func step(t *rapid.T) change.Op {
	o := change.Op{Interface: rapid.SampledFrom([]string{"eth0", "eth1", "eth2"}).Draw(t, "interface"),
		Do: rapid.SampledFrom([]change.Do{change.AddAddress, change.AddAddress, change.RemoveAddress, change.AddRoute, change.AddRoute,
			change.RemoveRoute, change.AddNeighbour, change.RemoveNeighbour, change.SwitchOn, change.SwitchOn, change.SwitchOff,
			change.SetMTU,
			change.SetResolvers}).Draw(t, "do")}
	switch o.Do {
	case change.AddAddress, change.RemoveAddress:
		o.Prefix = rapid.SampledFrom(someAddresses).Draw(t, "address")
	case change.AddRoute, change.RemoveRoute:
		o.Prefix, o.Via = rapid.SampledFrom(someRoutes).Draw(t, "route"), rapid.SampledFrom(someVias).Draw(t, "via")
		o.Metric = rapid.SampledFrom([]int{0, 100}).Draw(t, "metric")
		if rapid.Bool().Draw(t, "source") {
			o.Source = rapid.SampledFrom(someAddresses).Draw(t, "speaks from").Addr()
		}
		if o.Via.IsValid() && o.Via.Is6() != o.Prefix.Addr().Is6() || o.Source.IsValid() && o.Source.Is6() != o.Prefix.Addr().Is6() {
			o.Via, o.Source = netip.Addr{}, netip.Addr{}
		}
	case change.AddNeighbour, change.RemoveNeighbour:
		o.Address, o.Hardware = addr("172.27.40.9"), endpoint.HardwareAddr{2, 0, 0, 0, 0, byte(rapid.IntRange(1, 2).Draw(t, "hardware"))}
	case change.SetMTU:
		o.MTU = rapid.SampledFrom([]int{576, 1280, 1400, 9000}).Draw(t, "mtu")
	case change.SetResolvers:
		o.Resolvers = rapid.SliceOfN(rapid.SampledFrom([]netip.Addr{addr("172.27.40.2"), addr("203.0.113.53")}), 0, 3).
			Draw(t, "name servers")
	}
	return o
}

// besides is any step that is about no interface: rules, and names of the hosts file.
func besides(t *rapid.T) change.Op {
	rule := change.Op{Do: change.AddRule, Priority: rapid.IntRange(1, 3).Draw(t, "priority"), Table: 7}
	if rapid.Bool().Draw(t, "to") {
		rule.Prefix = prefix("203.0.113.0/24")
	}
	host := change.Op{Do: change.AddHost, Name: rapid.SampledFrom([]string{"bookings", "weather"}).Draw(t, "name"),
		Address: addr("203.0.113.18")}
	o := rapid.SampledFrom([]change.Op{rule, host}).Draw(t, "what")
	if rapid.Bool().Draw(t, "less") {
		o.Do = map[change.Do]change.Do{change.AddRule: change.RemoveRule, change.AddHost: change.RemoveHost}[o.Do]
	}
	return o
}

// reach takes a machine to settings that it can come to.
func reach(t *rapid.T, s change.Settings) change.Settings {
	for range rapid.IntRange(0, 12).Draw(t, "steps") {
		o := step(t)
		if rapid.IntRange(0, 4).Draw(t, "besides") == 0 {
			o = besides(t)
		}
		if next, err := s.Apply(o); err == nil {
			s = next
		}
	}
	return s
}

func follow(t require.TestingT, s change.Settings, steps []change.Op) change.Settings {
	for _, o := range steps {
		next, err := s.Apply(o)
		require.NoError(t, err)
		s = next
	}
	return s
}

// From any settings that a machine can come to there is a way to any others, and a way back from each of its steps.
func TestThereIsAWayAndAWayBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		from := reach(t, counter())
		to := reach(t, from)
		steps, err := change.Way(from, to)
		require.NoError(t, err)
		came := follow(t, from, steps)
		require.True(t, to.Equal(&came), "%+v\n%+v", to, came)
		none, err := change.Way(to, to)
		require.NoError(t, err)
		require.Empty(t, none)
		for done := range len(steps) + 1 {
			at := follow(t, from, steps[:done])
			target, others := change.TakeBack(at, from, at)
			require.Empty(t, others)
			back, err := change.Way(at, target)
			require.NoError(t, err, "after %v", steps[:done])
			came := follow(t, at, back)
			require.True(t, from.Equal(&came), "%+v\n%+v", from, came)
		}
	})
}

func TestASetOfSettings(t *testing.T) {
	for _, c := range []struct {
		name   string
		before func(*change.Settings)
		set    change.Static
		want   []change.Do
		says   string
		check  func(t *testing.T, to change.Settings)
	}{
		{name: "another gateway alone: address and name servers stay",
			set:  change.Static{Address: prefix("172.27.40.23/24"), Gateway: addr("172.27.40.254")},
			want: []change.Do{change.RemoveRoute, change.AddRoute}},
		{name: "another address: the gateway is carried along", set: change.Static{Address: prefix("172.27.40.99/24")},
			want: []change.Do{change.RemoveAddress, change.AddAddress, change.AddRoute}},
		{name: "a mask set right", before: func(s *change.Settings) { s.Addresses[0].Prefix = prefix("172.27.40.23/28") },
			set:  change.Static{Address: prefix("172.27.40.23/24")},
			want: []change.Do{change.RemoveAddress, change.AddAddress, change.AddRoute}},
		{name: "an interface that is off is switched on",
			set:  change.Static{Interface: "eth1", Address: prefix("10.9.8.5/30"), Gateway: addr("10.9.8.6")},
			says: "", want: []change.Do{change.SwitchOn, change.RemoveRoute, change.AddAddress, change.AddRoute}},
		{name: "name servers with it", set: change.Static{Address: prefix("172.27.40.23/24"), Resolvers: []netip.Addr{addr("172.27.40.2")}},
			want: []change.Do{change.SetResolvers}},
		{name: "what it is already", set: change.Static{Address: prefix("172.27.40.23/24"), Gateway: addr("172.27.40.1")}},
		{name: "by IPv6", set: change.Static{Address: prefix("2001:db8:40::99/64")},
			want: []change.Do{change.RemoveAddress, change.AddAddress}},
		{name: "a gateway that no network carries", set: change.Static{Address: prefix("10.9.8.7/24")}, says: ""},
		{name: "a gateway outside", set: change.Static{Address: prefix("172.27.40.23/24"), Gateway: addr("172.27.41.1")},
			says: "lies outside 172.27.40.0/24"},
		{name: "the network itself", set: change.Static{Address: prefix("172.27.40.0/24")}, says: "begin at 172.27.40.1"},
		{name: "all hosts", set: change.Static{Address: prefix("172.27.40.255/24")}, says: "end at 172.27.40.254"},
		{name: "a group", set: change.Static{Address: prefix("224.0.0.5/24")}, says: "no host's address"},
		{name: "no length", set: change.Static{Address: netip.PrefixFrom(addr("172.27.40.23"), 0)}, says: "makes everybody a neighbour"},
		{name: "a gateway of the other family", set: change.Static{Address: prefix("172.27.40.23/24"), Gateway: addr("2001:db8:40::1")},
			says: "other address family"},
		{name: "itself as gateway", set: change.Static{Address: prefix("172.27.40.23/24"), Gateway: addr("172.27.40.23")},
			says: "give the router's address"},
		{name: "no such interface", set: change.Static{Interface: "eth9", Address: prefix("172.27.40.23/24")}, says: "no such interface"},
	} {
		t.Run(c.name, func(t *testing.T) {
			from := counter()
			if c.before != nil {
				c.before(&from)
			}
			if c.set.Interface == "" {
				c.set.Interface = "eth0"
			}
			p, err := change.Work(change.Change{Set: &c.set}, from, change.Known{})
			if c.says != "" {
				require.ErrorContains(t, err, c.says)
				return
			}
			if c.name == "a gateway that no network carries" {
				require.ErrorContains(t, err, "correct one of them")
				return
			}
			require.NoError(t, err)
			var did []change.Do
			for _, s := range p.Steps {
				did = append(did, s.Do)
				assert.NotEqual(t, s.Before, s.After)
			}
			assert.Equal(t, c.want, did)
			assert.Equal(t, []netip.Prefix{c.set.Address}, p.To.On(c.set.Interface, c.set.Address.Addr().Is6()))
			assert.Equal(t, from.On("eth0", !c.set.Address.Addr().Is6()), p.To.On("eth0", !c.set.Address.Addr().Is6()),
				"the other family stays")
			if c.set.Resolvers == nil {
				assert.Equal(t, from.Resolvers, p.To.Resolvers)
			}
			assert.NoError(t, p.Fresh(from))
			assert.Equal(t, len(p.Steps) == 0, p.Fresh(p.To) == nil, "a plan is stale when it has been done")
		})
	}
}

func TestWarnings(t *testing.T) {
	session := change.Known{}
	session.Session.Local, session.Session.Remote = addr("172.27.40.23"), addr("203.0.113.9")
	set := func(a, via string) change.Change {
		s := &change.Static{Interface: "eth0", Address: prefix(a)}
		if via != "" {
			s.Gateway = addr(via)
		}
		return change.Change{Set: s}
	}
	do := func(o change.Op) change.Change { return change.Change{Steps: []change.Op{o}} }
	documented := map[string]site.Network{"eth0": {Prefixes: []netip.Prefix{prefix("172.27.40.0/24")},
		Gateways: []netip.Addr{addr("172.27.40.1")},
		Fixed: []site.Fixed{{Address: addr("172.27.40.50"), Name: "label-printer"},
			{Address: addr("172.27.40.24"), Name: "ticket-03.kittiwake.example"}},
		Ranges: []site.Range{{From: addr("172.27.40.100"), To: addr("172.27.40.199"), Use: "DHCP"}}}}
	for _, c := range []struct {
		name   string
		change change.Change
		known  change.Known
		want   []change.WarningID
	}{
		{"nothing to warn of", set("172.27.40.99/24", ""), change.Known{}, nil},
		{"the session's own address goes", set("172.27.40.99/24", ""), session, []change.WarningID{change.CutsRemoteSession}},
		{"the session's interface is switched off", do(change.Op{Do: change.SwitchOff, Interface: "eth0"}), session,
			[]change.WarningID{change.CutsRemoteSession, change.TakesWayOut, change.TakesWayOut}},
		{"the session's way goes",
			do(change.Op{Do: change.RemoveRoute, Interface: "eth0", Prefix: prefix("0.0.0.0/0"), Via: addr("172.27.40.1")}), session,
			[]change.WarningID{change.CutsRemoteSession, change.TakesWayOut}},
		{"another gateway carries the session as well", set("172.27.40.23/24", "172.27.40.254"), session, nil},
		{"somebody has the address", set("172.27.40.99/24", ""),
			change.Known{Held: map[netip.Addr]string{addr("172.27.40.99"): "02:00:00:00:00:09"}},
			[]change.WarningID{change.AddressInUse}},
		{"one's own address is no warning", set("172.27.40.23/24", ""),
			change.Known{Held: map[netip.Addr]string{addr("172.27.40.23"): "02:00:00:00:00:09"}}, nil},
		{"the gateway keeps silent", set("172.27.40.23/24", "172.27.40.254"), change.Known{Silent: []netip.Addr{addr("172.27.40.254")}},
			[]change.WarningID{change.GatewaySilent}},
		{"the lease says otherwise", set("172.27.40.99/24", "172.27.40.254"),
			change.Known{Leased: map[string]change.Leased{"eth0": {prefix("172.27.40.23/24"), addr("172.27.40.1")}}},
			[]change.WarningID{change.DiffersFromLease, change.DiffersFromLease}},
		{"the sheet says otherwise", set("172.27.40.23/16", "172.27.41.1"),
			change.Known{Home: documented}, []change.WarningID{change.DiffersFromSheet, change.DiffersFromSheet}},
		{"the sheet gives the address to somebody else", set("172.27.40.50/24", ""), change.Known{Home: documented},
			[]change.WarningID{change.DiffersFromSheet}},
		{"the sheet leaves the address to DHCP", set("172.27.40.150/24", ""), change.Known{Home: documented},
			[]change.WarningID{change.DiffersFromSheet}},
		{"the sheet knows it as this machine's", set("172.27.40.24/24", ""), change.Known{Home: documented, Host: "ticket-03"}, nil},
		{"a visitor's address is in no sheet",
			change.Visit("eth0", addr("192.168.1.1"), addr("192.168.1.2"), time.Minute), change.Known{Home: documented}, nil},
		{"somebody manages it", set("172.27.40.99/24", ""), change.Known{Manager: map[string]string{"eth0": "NetworkManager"}},
			[]change.WarningID{change.ManagerUndoes}},
		{"the last address",
			change.Change{Steps: []change.Op{{Do: change.RemoveAddress, Interface: "eth0", Prefix: prefix("172.27.40.23/24")},
				{Do: change.RemoveAddress, Interface: "eth0", Prefix: prefix("2001:db8:40::23/64")}}}, change.Known{},
			[]change.WarningID{change.TakesLastAddress, change.TakesWayOut, change.GatewayOutside}},
	} {
		t.Run(c.name, func(t *testing.T) {
			p, err := change.Work(c.change, counter(), c.known)
			require.NoError(t, err)
			var got []change.WarningID
			for _, w := range p.Warnings {
				got = append(got, w.ID)
				assert.NotEmpty(t, w.Text)
			}
			slices.Sort(got)
			slices.Sort(c.want)
			assert.Equal(t, c.want, got)
		})
	}
}

// What the system could not be told to put back is not taken away.
func TestARouteOfSeveralNextHops(t *testing.T) {
	from := counter()
	from.Routes = append(from.Routes, change.Route{To: prefix("0.0.0.0/0"), Via: addr("172.27.40.2"), Interface: "eth0", Protocol: 3})
	for _, c := range []change.Change{
		{Set: &change.Static{Interface: "eth0", Address: prefix("172.27.40.99/24"), Gateway: addr("172.27.40.3")}},
		{Steps: []change.Op{{Do: change.SwitchOff, Interface: "eth0"}}}} {
		_, err := change.Work(c, from, change.Known{})
		assert.ErrorContains(t, err, "several next hops")
	}
	_, err := change.Work(change.Change{Steps: []change.Op{{Do: change.SetMTU, Interface: "eth0", MTU: 1400}}}, from, change.Known{})
	assert.NoError(t, err)
}

func TestWhatNoMachineCanBeTold(t *testing.T) {
	for says, o := range map[string]change.Op{
		"bits beyond its length": {Do: change.AddRoute, Interface: "eth0", Prefix: prefix("203.0.113.9/24")},
		"no single station's": {Do: change.AddNeighbour, Interface: "eth0", Address: addr("172.27.40.9"),
			Hardware: endpoint.HardwareAddr{1}},
		"no name server's":    {Do: change.SetResolvers, Resolvers: []netip.Addr{addr("0.0.0.0")}},
		"an MTU is":           {Do: change.SetMTU, Interface: "eth0", MTU: 20},
		"it is there already": {Do: change.AddAddress, Interface: "eth0", Prefix: prefix("172.27.40.23/24")},
		"it is not there":     {Do: change.RemoveAddress, Interface: "eth0", Prefix: prefix("172.27.40.24/24")},
		"switched off":        {Do: change.AddRoute, Interface: "eth1", Prefix: prefix("203.0.113.0/24")},
		"lies in no network":  {Do: change.AddRoute, Interface: "eth0", Prefix: prefix("203.0.113.0/24"), Via: addr("10.0.0.1")},
		"no such interface":   {Do: change.SwitchOff, Interface: "eth9"},
	} {
		_, err := change.Work(change.Change{Steps: []change.Op{o}}, counter(), change.Known{})
		assert.ErrorContains(t, err, says)
	}
}

// However many routes there are, and however many of them go and come: a plan is worked out at once.
func TestTenThousandRoutes(t *testing.T) {
	s := counter()
	for i := range 10_000 {
		s.Routes = append(s.Routes,
			change.Route{To: netip.PrefixFrom(netip.AddrFrom4([4]byte{100, 64 + byte(i>>14), byte(i >> 6), byte(i << 2)}), 30),
				Via: netip.MustParseAddr("172.27.40.1"), Interface: "eth0", Metric: 5})
	}
	s, err := change.Change{}.To(s)
	require.NoError(t, err)
	began := time.Now()
	p, err := change.Work(change.Change{Set: &change.Static{Interface: "eth0", Address: netip.MustParsePrefix("172.27.40.99/24")}}, s,
		change.Known{})
	require.NoError(t, err)
	back, others := change.TakeBack(p.To, p.From, p.To)
	took := time.Since(began)
	fmt.Printf("a plan that moves 10,000 routes, and its undoing: %v, %d steps\n", took.Round(time.Millisecond), len(p.Steps))
	assert.Greater(t, len(p.Steps), 10_000)
	assert.Empty(t, others)
	assert.True(t, back.Equal(&s))
	assert.Less(t, took, 20*time.Second, "generous: under the race detector, on a machine that others use")
}
