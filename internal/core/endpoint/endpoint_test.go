package endpoint_test

import (
	"bytes"
	"fmt"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"passepartout/internal/core/endpoint"
)

func TestParseResolvConf(t *testing.T) {
	for _, c := range []struct {
		name, in string
		servers  []string
		search   []string
		remarks  []string
	}{
		{name: "usual",
			in: "# made by hand\nnameserver 172.27.40.2\nnameserver 2001:db8::53\nsearch kittiwake.example. Pier.Example\noptions ndots:1\n", servers: []string{"172.27.40.2", "2001:db8::53"}, search: []string{"kittiwake.example", "pier.example"}},
		{name: "no end of line", in: "nameserver 172.27.40.2", servers: []string{"172.27.40.2"}},
		{name: "the last search counts", in: "search a.example\ndomain b.example\n", search: []string{"b.example"}},
		{name: "empty", in: ""},
		{name: "rubbish", in: "nameserver\nnameserver here\n\x00\x1b[31m\nfoo bar\nbaz\n",
			remarks: []string{"line 1: nameserver without an address", `line 2: nameserver "here" is no address`,
				`line 3: "\\x00\\x1b[31m" is no setting`, "2 more lines make no sense"}},
		{name: "a line too long", in: "nameserver 172.27.40.2\n" + strings.Repeat("x", 200_000) + "\nnameserver 172.27.40.3\n",
			servers: []string{"172.27.40.2", "172.27.40.3"}},
		{name: "too many", in: strings.Repeat("nameserver 172.27.40.2\n", 500), servers: slices(16, "172.27.40.2"),
			remarks: []string{"16 name servers stand there, and programs ask the first 3 alone"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			is := endpoint.ParseResolvConf(strings.NewReader(c.in), "resolv.conf")
			var got []string
			for _, s := range is.Resolvers {
				got = append(got, s.Address.String())
			}
			assert.Equal(t, c.servers, got)
			assert.Equal(t, c.search, is.Search)
			if assert.Len(t, is.Remarks, len(c.remarks), is.Remarks) {
				for i, want := range c.remarks {
					assert.Contains(t, is.Remarks[i], want)
					assert.NotContains(t, is.Remarks[i], "\x1b")
				}
			}
		})
	}
}

func TestOptionsOfResolvConf(t *testing.T) {
	for text, want := range map[string]endpoint.Asking{
		"":                                     {},
		"options ndots:2 timeout:3 attempts:4": {NDots: 3, Timeout: 3 * time.Second, Attempts: 4},
		"options ndots:0":                      {NDots: 1},
		"options ndots:99 timeout:99 attempts:99": {NDots: 16, Timeout: 30 * time.Second, Attempts: 5},
		"options timeout:0 attempts:0":            {Timeout: time.Second, Attempts: 1},
		"options rotate edns0\noptions use-vc trust-ad no-aaaa single-request": {Rotate: true, EDNS0: true, UseVC: true, TrustAD: true,
			NoAAAA: true, SingleRequest: true},
		"options ndots:x ndots:-1 nonsense": {},
	} {
		assert.Equal(t, want, endpoint.ParseResolvConf(strings.NewReader(text), "f").Asking, text)
	}
	dots := endpoint.Asking{}.Dots()
	timeout, attempts := endpoint.Asking{}.Patience()
	assert.Equal(t, []any{1, 5 * time.Second, 2}, []any{dots, timeout, attempts}, "what resolv.conf(5) has for a file without options")
}

// What the system's library asks in which order stands in machine/linux, beside the library itself.
func TestCompleted(t *testing.T) {
	for _, c := range []struct {
		name, conf string
		want       []string
		asIs       int
	}{
		{"bookings", "search kittiwake.example . pier.example", []string{"bookings.kittiwake.example", "bookings", "bookings.pier.example"},
			1},
		{"bookings", "search kittiwake.example", []string{"bookings.kittiwake.example", "bookings"}, 1},
		{"bookings", "", []string{"bookings"}, 0},
		{"bookings", "search kittiwake.example\noptions no-tld-query", []string{"bookings.kittiwake.example"}, -1},
		{"a.example", "search kittiwake.example", []string{"a.example", "a.example.kittiwake.example"}, 0},
		{"a.example", "search kittiwake.example\noptions ndots:2", []string{"a.example.kittiwake.example", "a.example"}, 1},
		{"a.example.", "search kittiwake.example\noptions ndots:2", []string{"a.example"}, 0},
		{"a", "search kittiwake.example\noptions ndots:0", []string{"a", "a.kittiwake.example"}, 0},
		{"", "search kittiwake.example", nil, -1},
	} {
		is := endpoint.ParseResolvConf(strings.NewReader(c.conf), "f")
		e := endpoint.Endpoint{Search: is.Search, Asking: is.Asking}
		got, asIs := e.Completed(c.name)
		assert.Equal(t, c.want, got, "%s with %q", c.name, c.conf)
		assert.Equal(t, c.asIs, asIs, "%s with %q", c.name, c.conf)
	}
}

func slices(n int, s string) (out []string) {
	for range n {
		out = append(out, s)
	}
	return out
}

func TestParseHosts(t *testing.T) {
	lines, remarks := endpoint.ParseHosts(
		strings.NewReader(
			"127.0.0.1 localhost\n# 1.2.3.4 no\n203.0.113.99 bookings.kittiwake.example bookings # by hand\nnonsense here\n::1\n"), "hosts")
	assert.Empty(t, remarks)
	assert.Equal(t, []endpoint.HostsLine{
		{Address: netip.MustParseAddr("127.0.0.1"), Names: []string{"localhost"}},
		{Address: netip.MustParseAddr("203.0.113.99"), Names: []string{"bookings.kittiwake.example", "bookings"}},
	}, lines)
	e := endpoint.Endpoint{Hosts: lines}
	assert.Equal(t, []netip.Addr{netip.MustParseAddr("203.0.113.99")}, e.HostsEntries("Bookings"))
	assert.Empty(t, e.HostsEntries("weather"))

	var big bytes.Buffer
	for i := range 50_000 {
		fmt.Fprintf(&big, "10.%d.%d.%d host-%d\n", i>>16, i>>8&255, i&255, i)
	}
	lines, _ = endpoint.ParseHosts(&big, "hosts")
	assert.Len(t, lines, 50_000)
}

func FuzzParseFiles(f *testing.F) {
	f.Add([]byte("hosts: files [!NOTFOUND=return] dns"))
	f.Add([]byte("nameserver 1.2.3.4\nsearch a\n127.0.0.1 x\n"))
	f.Fuzz(func(t *testing.T, in []byte) {
		is := endpoint.ParseResolvConf(bytes.NewReader(in), "f")
		lines, _ := endpoint.ParseHosts(bytes.NewReader(in), "f")
		for _, s := range is.Resolvers {
			if !s.Address.IsValid() {
				t.Fatal("a resolver without an address")
			}
		}
		sources := endpoint.ParseSwitching(bytes.NewReader(in))
		for _, s := range sources {
			is.Remarks = append(is.Remarks, s.Service)
		}
		for _, text := range append(is.Search, is.Remarks...) {
			if strings.ContainsAny(text, "\x1b\r\n") {
				t.Fatalf("%q reaches the screen", text)
			}
		}
		for _, l := range lines {
			if !l.Address.IsValid() || len(l.Names) == 0 {
				t.Fatalf("%+v", l)
			}
		}
	})
}

func TestProxies(t *testing.T) {
	file := endpoint.ParseEnvironment(
		strings.NewReader(
			"# comment\nexport https_proxy=\"http://172.27.40.70:3128\"\nNO_PROXY=.kittiwake.example,172.27.40.0/24\nPATH=/bin\nodd line\n"))
	p := endpoint.ProxyVariables("/etc/environment", func(name string) string { return file[name] })
	e := &endpoint.Endpoint{Proxies: []endpoint.ProxySetting{{}, p}}
	for address, want := range map[string]string{
		"https://weather.example/":           "172.27.40.70:3128",
		"http://weather.example/":            "", // only https is set
		"https://bookings.kittiwake.example": "", // excepted
		"https://172.27.40.2/":               "", // likewise
		"::":                                 "",
	} {
		proxy, _ := e.ProxyFor(address)
		host := ""
		if proxy != nil {
			host = proxy.Host
		}
		assert.Equal(t, want, host, address)
	}
	all := endpoint.ProxyVariables("", func(name string) string { return map[string]string{"ALL_PROXY": "socks5://a.example:1080"}[name] })
	assert.Equal(t, "socks5://a.example:1080", all.HTTPS)
	assert.True(t, endpoint.ProxySetting{Except: "x"}.IsZero())
}

func FuzzEnvironment(f *testing.F) {
	f.Add([]byte("https_proxy=http://a.example:3128\n"))
	f.Fuzz(func(t *testing.T, in []byte) {
		file := endpoint.ParseEnvironment(bytes.NewReader(in))
		p := endpoint.ProxyVariables("f", func(name string) string { return file[name] })
		e := &endpoint.Endpoint{Proxies: []endpoint.ProxySetting{p}}
		if proxy, _ := e.ProxyFor("https://bookings.kittiwake.example/"); proxy != nil && strings.ContainsAny(proxy.Host, "\x1b\r\n") {
			t.Fatalf("%q reaches the screen", proxy.Host)
		}
	})
}

func prefix(s string) endpoint.Address { return endpoint.Address{Prefix: netip.MustParsePrefix(s)} }

func TestFacts(t *testing.T) {
	addr := netip.MustParseAddr
	e := &endpoint.Endpoint{
		Interfaces: []endpoint.Interface{
			{Name: "lo", Kind: endpoint.LoopbackKind, Up: true, Carrier: endpoint.CarrierPresent,
				Addresses: []endpoint.Address{prefix("127.0.0.1/8")}},
			{Name: "br0", Kind: endpoint.Bridge, Up: true, Carrier: endpoint.CarrierPresent,
				Addresses: []endpoint.Address{prefix("10.0.0.1/8")}},
			{Name: "eth0", Kind: endpoint.Wired, Up: true, Carrier: endpoint.CarrierPresent,
				Addresses: []endpoint.Address{prefix("172.27.40.23/24"), prefix("169.254.9.9/16"), prefix("fe80::1/64"),
					prefix("2001:db8:40::23/64")}},
			{Name: "eth1", Kind: endpoint.Wired},
		},
		Resolvers: []endpoint.Resolver{{Address: addr("127.0.0.53"), Stub: true}, {Address: addr("172.27.40.2"), Behind: true},
			{Address: addr("172.27.40.2"), Behind: true}},
	}
	route := func(to, via, port string, metric int) endpoint.Route {
		r := endpoint.Route{To: netip.MustParsePrefix(to), Interface: port, Metric: metric, Verdict: endpoint.Forward}
		if via != "" {
			r.Via = addr(via)
		}
		return r
	}
	name, ok := e.Choose()
	assert.True(t, ok)
	assert.Equal(t, "eth0", name, "without a default route the wired port that is alive")
	e.Routes = []endpoint.Route{route("0.0.0.0/0", "172.27.40.9", "eth0", 200), route("0.0.0.0/0", "10.0.0.9", "br0", 100),
		route("::/0", "fe80::9", "eth0", 0), route("172.27.40.0/24", "", "eth0", 0)}
	name, _ = e.Choose()
	assert.Equal(t, "br0", name, "the best default route")
	gw, _ := e.Gateway("eth0", false)
	assert.Equal(t, addr("172.27.40.9"), gw)
	gw, _ = e.Gateway("eth0", true)
	assert.Equal(t, addr("fe80::9"), gw)
	_, ok = e.Gateway("eth1", false)
	assert.False(t, ok)
	eth0, _ := e.Interface("eth0")
	assert.Len(t, eth0.Usable(false), 1)
	assert.Len(t, eth0.Usable(true), 1)
	self, ok := eth0.SelfAssigned()
	assert.True(t, ok)
	assert.Equal(t, "169.254.9.9/16", self.Prefix.String())
	assert.True(t, eth0.OnLink(addr("172.27.40.1")))
	assert.True(t, eth0.OnLink(addr("fe80::7%eth0")), "a zone does not matter")
	assert.False(t, eth0.OnLink(addr("172.27.41.1")))
	assert.True(t, e.Owns(addr("172.27.40.23")))
	assert.Equal(t, []netip.Addr{addr("127.0.0.53"), addr("172.27.40.2")}, e.AskedResolvers(), "the stub, then what stands behind it, once")
	assert.True(t, e.Behind(addr("172.27.40.2")))
	assert.False(t, e.Behind(addr("127.0.0.53")))
	e.Routes[0].Table, e.Routes[1].Table = 254, 120
	gw, _ = e.Gateway("br0", false)
	assert.False(t, gw.IsValid(), "a default route of another table is not in force by itself")
	none := &endpoint.Endpoint{Interfaces: e.Interfaces[:1]}
	_, ok = none.Choose()
	assert.False(t, ok, "loopback alone is no port")
}

// What containers, virtual machines and tunnels bring is alive whether or not the machine is connected.
func TestChooseAmongWhatContainersBring(t *testing.T) {
	up := func(name string, k endpoint.Kind, carrier endpoint.Carrier, master, driver string, addrs ...string) endpoint.Interface {
		i := endpoint.Interface{Name: name, Kind: k, Up: true, Carrier: carrier, Master: master, Driver: driver}
		for _, a := range addrs {
			i.Addresses = append(i.Addresses, endpoint.Address{Prefix: netip.MustParsePrefix(a), Scope: endpoint.ScopeGlobal})
		}
		return i
	}
	const yes, no = endpoint.CarrierPresent, endpoint.CarrierAbsent
	docker := up("docker0", endpoint.Bridge, yes, "", "bridge", "172.17.0.1/16")
	cable := up("veth1", endpoint.Wired, yes, "docker0", "veth")
	for name, c := range map[string]struct {
		all  []endpoint.Interface
		want string
	}{
		"a container runs, and the cable is out": {[]endpoint.Interface{docker, cable, up("eth0", endpoint.Wired, no, "", "e1000e")},
			"eth0"},
		"a container runs, and there is no address": {[]endpoint.Interface{docker, cable, up("eth0", endpoint.Wired, yes, "", "e1000e"),
			up("wlan0", endpoint.Wireless, no, "", "iwlwifi")}, "eth0"},
		"a tunnel is up": {[]endpoint.Interface{up("tun0", endpoint.Tunnel, yes, "", "tun", "10.8.0.2/24"),
			up("wlan0", endpoint.Wireless, yes, "", "iwlwifi")}, "wlan0"},
		"the address stands on a bridge with the port as its member": {[]endpoint.Interface{docker, cable,
			up("eth0", endpoint.Wired, yes, "br0", "e1000e"), up("br0", endpoint.Bridge, yes, "", "bridge", "172.27.40.23/24")}, "br0"},
		"the same without an address": {[]endpoint.Interface{docker, cable, up("eth0", endpoint.Wired, yes, "br0", "e1000e"),
			up("br0", endpoint.Bridge, yes, "", "bridge")}, "br0"},
		"inside a container": {[]endpoint.Interface{up("eth0", endpoint.Wired, yes, "", "veth")}, "eth0"},
		"bridges alone":      {[]endpoint.Interface{up("virbr0", endpoint.Bridge, no, "", "bridge"), docker}, "docker0"},
	} {
		got, ok := (&endpoint.Endpoint{Interfaces: c.all}).Choose()
		assert.True(t, ok, name)
		assert.Equal(t, c.want, got, name)
	}
}

// Every constant has a name of its own.
func TestNames(t *testing.T) {
	seen := map[string]bool{}
	for _, s := range []fmt.Stringer{endpoint.OtherKind, endpoint.Wired, endpoint.Wireless, endpoint.LoopbackKind, endpoint.Bridge,
		endpoint.Tunnel} {
		assert.False(t, seen[s.String()] || s.String() == "", s.String())
		seen[s.String()] = true
	}
	for s := endpoint.NeighbourUnknown; s <= endpoint.NoARP; s++ {
		assert.NotEmpty(t, s.String())
	}
	for v := endpoint.RouteUnknown; v <= endpoint.LocalRoute; v++ {
		assert.NotEmpty(t, v.String())
	}
	for o := endpoint.OriginUnknown; o <= endpoint.ByRoutingDaemon; o++ {
		assert.NotEmpty(t, o.String())
	}
	hw, ok := endpoint.HardwareFrom([]byte{2, 0, 0, 0, 0x10, 0x17})
	assert.True(t, ok)
	assert.Equal(t, "02:00:00:00:10:17", hw.String())
	_, ok = endpoint.HardwareFrom([]byte{1, 2, 3})
	assert.False(t, ok)
}

func TestHardwareAddresses(t *testing.T) {
	for _, text := range []string{"02:00:00:00:10:17", "02-00-00-00-10-17", "0200.0000.1017", "020000001017", "02:00:00:00:10:17"} {
		h, err := endpoint.ParseHardware(text)
		assert.NoError(t, err, text)
		assert.Equal(t, "02:00:00:00:10:17", h.String())
	}
	for _, text := range []string{"", "02:00:00:00:10", "02:00:00:00:10:17:18", "zz:00:00:00:10:17", "00:00:00:00:00:00",
		strings.Repeat("f", 300)} {
		_, err := endpoint.ParseHardware(text)
		assert.ErrorContains(t, err, "give six octets", text)
		assert.Less(t, len(err.Error()), 140)
	}
	for text, want := range map[string][2]bool{"02:00:00:00:10:17": {true, false}, "00:00:5e:00:01:28": {false, true},
		"00:00:5e:00:02:01": {false, true}, "00:00:5e:00:03:01": {false, false}, "00:00:0c:07:ac:01": {false, true},
		"00:00:0c:07:ad:01": {false, false}} {
		h, err := endpoint.ParseHardware(text)
		assert.NoError(t, err)
		assert.Equal(t, want, [2]bool{h.Private(), h.Shared()}, text)
	}
}

// Only growth counts; a counter that went back began anew.
func TestCountersSince(t *testing.T) {
	was := endpoint.Counters{ReceivedPackets: 100, ReceiveErrors: 7, Damaged: 7, SendDrops: 3, Overruns: 50}
	now := endpoint.Counters{ReceivedPackets: 160, ReceiveErrors: 9, Damaged: 12, SendDrops: 3, Overruns: 4}
	grown := now.Since(was)
	assert.Equal(t, endpoint.Counters{ReceivedPackets: 60, ReceiveErrors: 2, Damaged: 5, Overruns: 4}, grown)
	assert.Equal(t, uint64(5+4), grown.Errors(), "damage that a driver counts among its errors is not counted twice")
	assert.Zero(t, grown.Drops())
}
