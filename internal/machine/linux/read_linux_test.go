//go:build linux

package linux_test

import (
	"fmt"
	"net"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/wiretext"
	"passepartout/internal/machine"
)

func cidr(s string) *net.IPNet {
	ip, n, err := net.ParseCIDR(s)
	if err != nil {
		panic(err)
	}
	n.IP = ip
	return n
}

// network is a destination without host bits, as routes want it.
func network(s string) *net.IPNet {
	p := netip.MustParsePrefix(s).Masked()
	return &net.IPNet{IP: p.Addr().AsSlice(), Mask: net.CIDRMask(p.Bits(), p.Addr().BitLen())}
}

func TestReadOddPorts(t *testing.T) {
	l, m := lab(t, "healthy")
	on(t, l, func() {
		add := func(link netlink.Link) {
			require.NoError(t, netlink.LinkAdd(link))
		}
		attrs := func(name string) netlink.LinkAttrs {
			a := netlink.NewLinkAttrs()
			a.Name = name
			return a
		}
		add(&netlink.Bridge{LinkAttrs: attrs("br0")})
		add(&netlink.Tuntap{LinkAttrs: attrs("tun0"), Mode: netlink.TUNTAP_MODE_TUN})
		add(&netlink.Veth{LinkAttrs: attrs("cable0"), PeerName: "cable1"})
		cable, err := netlink.LinkByName("cable0")
		require.NoError(t, err)
		require.NoError(t, netlink.LinkSetUp(cable))
		require.NoError(t, netlink.LinkSetMTU(cable, 1280))
		br0, err := netlink.LinkByName("br0")
		require.NoError(t, err)
		require.NoError(t, netlink.LinkSetMaster(cable, br0))
		e, err := m.Read(t.Context())
		require.NoError(t, err)
		for _, c := range []struct {
			name    string
			kind    endpoint.Kind
			up      bool
			carrier endpoint.Carrier
			mtu     int
		}{
			{"lo", endpoint.LoopbackKind, true, endpoint.CarrierPresent, 65536},
			{"eth0", endpoint.Wired, true, endpoint.CarrierPresent, 1500},
			{"br0", endpoint.Bridge, false, endpoint.CarrierUnknown, 1280}, // its member carries no more
			{"tun0", endpoint.Tunnel, false, endpoint.CarrierUnknown, 1500},
			{"cable0", endpoint.Wired, true, endpoint.CarrierAbsent, 1280},
		} {
			i, ok := e.Interface(c.name)
			if assert.True(t, ok, c.name) {
				assert.Equal(t, c.kind, i.Kind, c.name)
				assert.Equal(t, c.up, i.Up, c.name)
				assert.Equal(t, c.carrier, i.Carrier, c.name)
				assert.Equal(t, c.mtu, i.MTU, c.name)
			}
		}
		member, _ := e.Interface("cable0")
		assert.Equal(t, "br0", member.Master)
		eth0, _ := e.Interface("eth0")
		assert.Empty(t, eth0.Master)
		assert.Equal(t, "veth", eth0.Driver)
		assert.Equal(t, 10000, eth0.SpeedMbit, "what the driver of a virtual cable says")
		assert.Equal(t, endpoint.FullDuplex, eth0.Duplex)
		assert.Positive(t, eth0.Counters.SentPackets)
		name, ok := e.Choose()
		assert.True(t, ok)
		assert.Equal(t, "eth0", name)
	})
}

// Whoever makes an interface names it: no octets of his reach a terminal, and it can be used under the name by which it is shown.
func TestReadHostileNames(t *testing.T) {
	l, m := lab(t, "healthy")
	on(t, l, func() {
		for i, hostile := range []string{"\x1b[31mr", "a\u202eb", "\xff\xfe"} {
			a := netlink.NewLinkAttrs()
			a.Name = hostile
			require.NoError(t, netlink.LinkAdd(&netlink.Veth{LinkAttrs: a, PeerName: fmt.Sprintf("peer%d", i)}))
			link, err := netlink.LinkByName(hostile)
			require.NoError(t, err)
			require.NoError(t, netlink.LinkSetUp(link))
			own, err := netlink.ParseAddr(fmt.Sprintf("192.168.%d.1/24", 70+i))
			require.NoError(t, err)
			require.NoError(t, netlink.AddrAdd(link, own))
			shown := fmt.Sprintf("#%d", link.Attrs().Index)
			e, err := m.Read(t.Context())
			require.NoError(t, err)
			port, ok := e.Interface(shown)
			require.True(t, ok, "%q is shown by its number", hostile)
			assert.NotEmpty(t, port.Addresses)
			route, err := m.Route(t.Context(), netip.MustParseAddr(fmt.Sprintf("192.168.%d.9", 70+i)), shown)
			require.NoError(t, err)
			assert.Equal(t, shown, route.Interface)
			frames, err := m.OpenFrames(machine.FrameConfig{Interface: shown})
			require.NoError(t, err)
			frames.Close()
			for _, x := range e.Routes {
				assert.Equal(t, wiretext.Clean(x.Interface), x.Interface)
			}
		}
	})
}

func TestReadAddressesAndRoutes(t *testing.T) {
	l, m := lab(t, "healthy")
	on(t, l, func() {
		eth0, err := netlink.LinkByName("eth0")
		require.NoError(t, err)
		index := eth0.Attrs().Index
		require.NoError(t, netlink.AddrAdd(eth0, &netlink.Addr{IPNet: cidr("172.27.40.24/24")}))
		require.NoError(t, netlink.AddrAdd(eth0, &netlink.Addr{IPNet: cidr("2001:db8:40::24/64"), ValidLft: 600, PreferedLft: 300}))
		gw := net.ParseIP("172.27.40.1")
		for _, r := range []*netlink.Route{
			{LinkIndex: index, Dst: network("10.1.0.0/16"), Gw: gw, Protocol: unix.RTPROT_STATIC, Priority: 50},
			{LinkIndex: index, Dst: network("10.2.0.0/16"), Gw: gw, Protocol: unix.RTPROT_BGP},
			{Dst: network("10.3.0.0/16"), Type: unix.RTN_BLACKHOLE},
			{Dst: network("10.4.0.0/16"), Type: unix.RTN_UNREACHABLE},
			{Dst: network("10.5.0.0/16"), Type: unix.RTN_PROHIBIT},
			{LinkIndex: index, Dst: network("10.6.0.0/16"), Gw: net.ParseIP("10.99.99.99"), Flags: int(netlink.FLAG_ONLINK)},
			{Dst: network("10.7.0.0/16"),
				MultiPath: []*netlink.NexthopInfo{{LinkIndex: index, Gw: gw}, {LinkIndex: index, Gw: net.ParseIP("172.27.40.2")}}},
			{LinkIndex: index, Dst: network("10.8.0.0/16"), Gw: gw, Table: 77},
			{LinkIndex: index, Dst: network("2001:db8:9::/48"), Gw: net.ParseIP("2001:db8:40::1"), Protocol: unix.RTPROT_RA},
		} {
			require.NoError(t, netlink.RouteAdd(r), "%v", r)
		}
		e, err := m.Read(t.Context())
		require.NoError(t, err)
		assert.Empty(t, e.Remarks)
		by := map[string][]endpoint.Route{}
		for _, r := range e.Routes {
			by[r.To.String()] = append(by[r.To.String()], r)
		}
		via := netip.MustParseAddr("172.27.40.1")
		assert.Equal(t,
			endpoint.Route{To: netip.MustParsePrefix("10.1.0.0/16"), Via: via, Interface: "eth0", Metric: 50, Table: 254,
				Protocol: unix.RTPROT_STATIC, Origin: endpoint.ByHand, Verdict: endpoint.Forward}, by["10.1.0.0/16"][0])
		assert.Equal(t, endpoint.ByRoutingDaemon, by["10.2.0.0/16"][0].Origin)
		assert.Equal(t, endpoint.Blackhole, by["10.3.0.0/16"][0].Verdict)
		assert.Equal(t, endpoint.UnreachableRoute, by["10.4.0.0/16"][0].Verdict)
		assert.Equal(t, endpoint.ProhibitedRoute, by["10.5.0.0/16"][0].Verdict)
		assert.True(t, by["10.6.0.0/16"][0].OnLink)
		assert.Len(t, by["10.7.0.0/16"], 2, "each way of a multipath route")
		assert.Equal(t, 77, by["10.8.0.0/16"][0].Table)
		assert.Equal(t, endpoint.ByRouterAdvertisement, by["2001:db8:9::/48"][0].Origin)
		assert.Equal(t, endpoint.ByKernel, by["172.27.40.0/24"][0].Origin)

		port, _ := e.Interface("eth0")
		origins := map[string]endpoint.Origin{}
		for _, a := range port.Addresses {
			origins[a.Prefix.String()] = a.Origin
		}
		assert.Equal(t, endpoint.ByDHCP, origins["172.27.40.23/24"])
		assert.Equal(t, endpoint.ByHand, origins["172.27.40.24/24"])
		assert.Equal(t, endpoint.ByRouterAdvertisement, origins["2001:db8:40::24/64"])

		for to, want := range map[string]endpoint.RouteVerdict{"10.1.2.3": endpoint.Forward, "10.3.2.3": endpoint.Blackhole,
			"10.4.2.3": endpoint.UnreachableRoute, "10.5.2.3": endpoint.ProhibitedRoute, "127.0.0.1": endpoint.LocalRoute} {
			r, err := m.Route(t.Context(), netip.MustParseAddr(to), "")
			require.NoError(t, err)
			assert.Equal(t, want, r.Verdict, to)
		}
		require.NoError(t, netlink.RouteDel(&netlink.Route{Dst: network("0.0.0.0/0"), Gw: gw, LinkIndex: index}))
		r, err := m.Route(t.Context(), netip.MustParseAddr("203.0.113.80"), "")
		require.NoError(t, err)
		assert.Equal(t, endpoint.NoRoute, r.Verdict)
	})
}

func TestNeighbourStates(t *testing.T) {
	l, m := lab(t, "healthy")
	on(t, l, func() {
		eth0, err := netlink.LinkByName("eth0")
		require.NoError(t, err)
		hw, _ := net.ParseMAC("02:00:00:00:00:99")
		for ip, state := range map[string]int{"172.27.40.200": unix.NUD_PERMANENT, "172.27.40.201": unix.NUD_STALE,
			"172.27.40.202": unix.NUD_REACHABLE} {
			require.NoError(t,
				netlink.NeighAdd(&netlink.Neigh{LinkIndex: eth0.Attrs().Index, IP: net.ParseIP(ip), HardwareAddr: hw, State: state}))
		}
		entries, err := m.Neighbours(t.Context())
		require.NoError(t, err)
		got := map[string]endpoint.NeighbourState{}
		for _, n := range entries {
			got[n.Address.String()] = n.State
		}
		assert.Equal(t, endpoint.Permanent, got["172.27.40.200"])
		assert.Equal(t, endpoint.Stale, got["172.27.40.201"])
		assert.Equal(t, endpoint.Reachable, got["172.27.40.202"])
		for _, s := range []endpoint.NeighbourState{endpoint.Permanent, endpoint.Stale, endpoint.Reachable} {
			assert.True(t, s.Resolved())
		}
	})
}
