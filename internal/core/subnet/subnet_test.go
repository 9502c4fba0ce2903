package subnet_test

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"passepartout/internal/core/subnet"
)

func TestPrefix(t *testing.T) {
	for _, c := range []struct {
		prefix, last, mask string
		size               float64
		usable, not        []string
	}{
		{prefix: "172.27.40.23/24", last: "172.27.40.255", mask: "255.255.255.0", size: 254,
			usable: []string{"172.27.40.1", "172.27.40.254"}, not: []string{"172.27.40.0", "172.27.40.255", "172.27.41.1"}},
		{prefix: "172.27.40.23/28", last: "172.27.40.31", mask: "255.255.255.240", size: 14, usable: []string{"172.27.40.17"},
			not: []string{"172.27.40.1", "172.27.40.16", "172.27.40.31"}},
		{prefix: "172.27.40.23/22", last: "172.27.43.255", mask: "255.255.252.0", size: 1022,
			usable: []string{"172.27.40.255", "172.27.43.0"}, not: []string{"172.27.44.0"}},
		{prefix: "198.51.100.2/31", last: "198.51.100.3", mask: "255.255.255.254", size: 2,
			usable: []string{"198.51.100.2", "198.51.100.3"}, not: []string{"198.51.100.4"}},
		{prefix: "198.51.100.2/32", last: "198.51.100.2", mask: "255.255.255.255", size: 1, usable: []string{"198.51.100.2"},
			not: []string{"198.51.100.3"}},
		{prefix: "2001:db8:40::23/64", last: "2001:db8:40:0:ffff:ffff:ffff:ffff", mask: "/64", size: 1 << 64,
			usable: []string{"2001:db8:40::", "2001:db8:40::1%eth0"}, not: []string{"2001:db8:41::1"}},
	} {
		t.Run(c.prefix, func(t *testing.T) {
			p := netip.MustParsePrefix(c.prefix)
			assert.Equal(t, c.last, subnet.Last(p).String())
			assert.Equal(t, c.mask, subnet.Mask(p))
			assert.Equal(t, c.size, subnet.Size(p))
			for _, a := range c.usable {
				assert.True(t, subnet.Usable(p, netip.MustParseAddr(a)), a)
			}
			for _, a := range c.not {
				assert.False(t, subnet.Usable(p, netip.MustParseAddr(a)), a)
			}
		})
	}
	assert.False(t, subnet.Last(netip.Prefix{}).IsValid(), "the zero prefix has no last address")
	assert.Zero(t, subnet.Size(netip.Prefix{}))
}

// The slow, obvious twin: walk all addresses.
func TestAgainstWalk(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		raw := rapid.SliceOfN(rapid.Byte(), 4, 4).Draw(t, "address")
		bits := rapid.IntRange(22, 32).Draw(t, "bits")
		base, _ := netip.AddrFromSlice(raw)
		p := netip.PrefixFrom(base, bits)
		usable, last := map[netip.Addr]bool{}, netip.Addr{}
		for a := p.Masked().Addr(); p.Masked().Contains(a); a = a.Next() {
			last = a
			if subnet.Usable(p, a) {
				usable[a] = true
			}
			if at, ok := subnet.Position(p, a); !ok || at < 0 || at > 1 {
				t.Fatalf("position of %v in %v: got %v %v", a, p, at, ok)
			}
		}
		if subnet.Last(p) != last || float64(len(usable)) != subnet.Size(p) {
			t.Fatalf("%v: last %v, want %v; size %v, want %v", p, subnet.Last(p), last, subnet.Size(p), len(usable))
		}
		seen := map[netip.Addr]bool{}
		for a := range subnet.Around(p, base, 2000) {
			if seen[a] || !usable[a] || a == base {
				t.Fatalf("%v around %v: %v again, or not usable", p, base, a)
			}
			seen[a] = true
		}
		if want := len(usable); len(seen) != want && len(seen) != want-1 {
			t.Fatalf("%v: %d addresses around %v, want all %d others", p, len(seen), base, want)
		}
	})
}

func TestAroundComesNearestFirstAndStops(t *testing.T) {
	var got []string
	for a := range subnet.Around(netip.MustParsePrefix("172.27.40.0/24"), netip.MustParseAddr("172.27.40.2"), 4) {
		got = append(got, a.String())
	}
	assert.Equal(t, []string{"172.27.40.1", "172.27.40.3", "172.27.40.4", "172.27.40.5"}, got)
}

func TestKind(t *testing.T) {
	for in, want := range map[string]subnet.Kind{
		"0.0.0.0": subnet.Unspecified, "127.0.0.53": subnet.Loopback, "169.254.7.7": subnet.SelfAssigned, "172.27.40.23": subnet.Private,
		"172.32.0.1": subnet.Global, "100.64.0.1": subnet.CarrierShared, "100.128.0.1": subnet.Global, "224.0.0.251": subnet.Multicast,
		"255.255.255.255": subnet.Reserved,
		"203.0.113.80":    subnet.Global, "::1": subnet.Loopback, "fe80::1%eth0": subnet.LinkLocal, "fd00::1": subnet.UniqueLocal,
		"2001:db8::1": subnet.Global, "::ffff:192.168.1.1": subnet.Private,
	} {
		assert.Equal(t, want, subnet.KindOf(netip.MustParseAddr(in)), in)
	}
	assert.Equal(t, subnet.NoAddress, subnet.KindOf(netip.Addr{}))
	for k := subnet.NoAddress; k <= subnet.Global; k++ {
		assert.NotEmpty(t, k.String(), "every kind has a name: %d", k)
	}
	assert.False(t, subnet.SelfAssigned.Routable())
	assert.True(t, subnet.CarrierShared.Routable())
}

func TestOneOctetApart(t *testing.T) {
	for _, c := range []struct {
		a, b string
		want subnet.Slip
		ok   bool
	}{
		{"172.27.41.1", "172.27.40.1", subnet.Slip{Octet: 3, From: 41, To: 40}, true},
		{"172.27.40.1", "172.27.40.1", subnet.Slip{}, false},
		{"172.28.41.1", "172.27.40.1", subnet.Slip{}, false},
		{"2001:db8::1", "172.27.40.1", subnet.Slip{}, false},
	} {
		got, ok := subnet.OneOctetApart(netip.MustParseAddr(c.a), netip.MustParseAddr(c.b))
		assert.Equal(t, c.ok, ok, "%s %s", c.a, c.b)
		if ok {
			assert.Equal(t, c.want, got)
		}
	}
}

// The table of RFC 6052 §2.4.
func TestEmbedded(t *testing.T) {
	for prefix, made := range map[string]string{
		"2001:db8::/32": "2001:db8:c000:221::", "2001:db8:100::/40": "2001:db8:1c0:2:21::",
		"2001:db8:122::/48": "2001:db8:122:c000:2:2100::", "2001:db8:122:300::/56": "2001:db8:122:3c0:0:221::",
		"2001:db8:122:344::/64": "2001:db8:122:344:c0:2:2100::", "2001:db8:122:344::/96": "2001:db8:122:344::192.0.2.33",
		"64:ff9b::/96": "64:ff9b::192.0.2.33",
	} {
		got, ok := subnet.Embedded(netip.MustParsePrefix(prefix), netip.MustParseAddr(made))
		assert.True(t, ok, prefix)
		assert.Equal(t, netip.MustParseAddr("192.0.2.33"), got, prefix)
	}
	_, ok := subnet.Embedded(subnet.WellKnownTranslation, netip.MustParseAddr("2001:db8::1"))
	assert.False(t, ok, "another prefix")
	_, ok = subnet.Embedded(netip.Prefix{}, netip.MustParseAddr("2001:db8::1"))
	assert.False(t, ok)
}

func TestTranslationPrefix(t *testing.T) {
	for made, want := range map[string]string{
		"64:ff9b::192.0.0.170": "64:ff9b::/96", "2001:db8:64::192.0.0.171": "2001:db8:64::/96", "2001:db8:c000:aa::": "2001:db8::/32",
		"2001:db8:122:344:c0:0:aa00::": "2001:db8:122:344::/64",
	} {
		got, ok := subnet.TranslationPrefix(netip.MustParseAddr(made))
		assert.True(t, ok, made)
		assert.Equal(t, netip.MustParsePrefix(want), got, made)
	}
	for _, other := range []string{"2001:db8::1", "192.0.0.170", "::ffff:192.0.0.170"} {
		_, ok := subnet.TranslationPrefix(netip.MustParseAddr(other))
		assert.False(t, ok, other)
	}
	for code, bits := range []int{96, 64, 56, 48, 40, 32} { // RFC 8781 §4
		got, ok := subnet.PrefixLengthCode(uint8(code))
		assert.True(t, ok)
		assert.Equal(t, bits, got)
	}
	_, ok := subnet.PrefixLengthCode(6)
	assert.False(t, ok)
}
