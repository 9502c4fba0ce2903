package wire_test

import (
	"net/netip"
	"testing"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/machine/wire"
)

var (
	hw       = endpoint.HardwareAddr{2, 0, 0, 0, 0x10, 0x17}
	own      = netip.MustParseAddr("172.27.40.23")
	gateway  = netip.MustParseAddr("172.27.40.1")
	bookings = netip.MustParseAddr("203.0.113.80")
	own6     = netip.MustParseAddr("2001:db8:40::23")
	gateway6 = netip.MustParseAddr("2001:db8:40::1")
	tides6   = netip.MustParseAddr("2001:db8:113::70")
)

func packet(t testing.TB, l ...gopacket.SerializableLayer) []byte {
	buf := gopacket.NewSerializeBuffer()
	require.NoError(t, gopacket.SerializeLayers(buf, gopacket.SerializeOptions{FixLengths: true, ComputeChecksums: true}, l...))
	return append([]byte(nil), buf.Bytes()...)
}

func ip4(src, dst netip.Addr, proto layers.IPProtocol) *layers.IPv4 {
	return &layers.IPv4{Version: 4, TTL: 60, Protocol: proto, SrcIP: src.AsSlice(), DstIP: dst.AsSlice()}
}

func ip6(src, dst netip.Addr, proto layers.IPProtocol) *layers.IPv6 {
	return &layers.IPv6{Version: 6, HopLimit: 60, NextHeader: proto, SrcIP: src.AsSlice(), DstIP: dst.AsSlice()}
}

// sent are packets that an error may be about.
func sent(t testing.TB) (echo, udp, tcp, echo6 []byte) {
	echo = packet(t, ip4(own, bookings, layers.IPProtocolICMPv4),
		&layers.ICMPv4{TypeCode: layers.CreateICMPv4TypeCode(8, 0), Id: 77, Seq: 5}, gopacket.Payload("payload"))
	u := &layers.UDP{SrcPort: 4000, DstPort: 53}
	i := ip4(own, bookings, layers.IPProtocolUDP)
	require.NoError(t, u.SetNetworkLayerForChecksum(i))
	udp = packet(t, i, u, gopacket.Payload("question"))
	c := &layers.TCP{SrcPort: 5000, DstPort: 443, SYN: true}
	i = ip4(own, bookings, layers.IPProtocolTCP)
	require.NoError(t, c.SetNetworkLayerForChecksum(i))
	tcp = packet(t, i, c)
	j := ip6(own6, tides6, layers.IPProtocolICMPv6)
	m := &layers.ICMPv6{TypeCode: layers.CreateICMPv6TypeCode(128, 0)}
	require.NoError(t, m.SetNetworkLayerForChecksum(j))
	echo6 = packet(t, j, m, &layers.ICMPv6Echo{Identifier: 78, SeqNumber: 6})
	return echo, udp, tcp, echo6
}

func icmp4(t testing.TB, from netip.Addr, kind, code uint8, quote []byte) []byte {
	return packet(t, ip4(from, own, layers.IPProtocolICMPv4), &layers.ICMPv4{TypeCode: layers.CreateICMPv4TypeCode(kind, code)},
		gopacket.Payload(quote))
}

func icmp6(t testing.TB, from netip.Addr, kind, code uint8, quote []byte) []byte {
	i := ip6(from, own6, layers.IPProtocolICMPv6)
	m := &layers.ICMPv6{TypeCode: layers.CreateICMPv6TypeCode(kind, code)}
	require.NoError(t, m.SetNetworkLayerForChecksum(i))
	return packet(t, i, m, gopacket.Payload(append(make([]byte, 4), quote...)))
}

func TestParsePacket(t *testing.T) {
	echo, udp, tcp, echo6 := sent(t)
	for _, c := range []struct {
		name    string
		in      []byte
		outcome evidence.Outcome
		from    netip.Addr
		why     evidence.Why
		to      netip.AddrPort
		id, seq uint16
		port    uint16 // own port in the quote
	}{
		{name: "echo reply",
			in: packet(t, ip4(bookings, own, layers.IPProtocolICMPv4),
				&layers.ICMPv4{TypeCode: layers.CreateICMPv4TypeCode(0, 0), Id: 77, Seq: 5}, gopacket.Payload("1234")),
			outcome: evidence.Answered, from: bookings, to: netip.AddrPortFrom(bookings, 0), id: 77, seq: 5},
		{name: "echo ended by a router", in: icmp4(t, gateway, 11, 0, echo), outcome: evidence.Expired, from: gateway,
			to: netip.AddrPortFrom(bookings, 0), id: 77, seq: 5},
		{name: "quote of eight octets only", in: icmp4(t, gateway, 11, 0, echo[:28]), outcome: evidence.Expired, from: gateway,
			to: netip.AddrPortFrom(bookings, 0), id: 77, seq: 5},
		{name: "port closed, by the host itself", in: icmp4(t, bookings, 3, 3, udp), outcome: evidence.Refused, why: evidence.NoPort,
			from: bookings, to: netip.AddrPortFrom(bookings, 53), port: 4000},
		{name: "port closed, says somebody in between", in: icmp4(t, gateway, 3, 3, udp), outcome: evidence.Unreachable,
			why: evidence.NoPort, from: gateway, to: netip.AddrPortFrom(bookings, 53), port: 4000},
		{name: "prohibited", in: icmp4(t, gateway, 3, 13, tcp), outcome: evidence.Unreachable, why: evidence.Prohibited, from: gateway,
			to: netip.AddrPortFrom(bookings, 443), port: 5000},
		{name: "IPv6, ended", in: icmp6(t, gateway6, 3, 0, echo6), outcome: evidence.Expired, from: gateway6,
			to: netip.AddrPortFrom(tides6, 0), id: 78, seq: 6},
		{name: "IPv6, too big", in: icmp6(t, gateway6, 2, 0, echo6), outcome: evidence.Unreachable, why: evidence.TooBig, from: gateway6,
			to: netip.AddrPortFrom(tides6, 0), id: 78, seq: 6},
	} {
		t.Run(c.name, func(t *testing.T) {
			r, ok := wire.ParsePacket(c.in)
			require.True(t, ok)
			assert.Equal(t, c.outcome, r.Outcome)
			assert.Equal(t, c.from, r.From)
			assert.Equal(t, c.why, r.Why)
			assert.Equal(t, c.to, r.About.To)
			assert.Equal(t, c.id, r.About.ID)
			assert.Equal(t, c.seq, r.About.Seq)
			assert.Equal(t, c.port, r.About.From.Port())
			assert.Equal(t, 60, r.HopLimitLeft)
		})
	}
	for name, in := range map[string][]byte{"empty": nil, "no ICMP": udp, "a request": echo,
		"an error without a quote": icmp4(t, gateway, 11, 0, nil), "an error with half a quote": icmp4(t, gateway, 3, 1, echo[:20])} {
		_, ok := wire.ParsePacket(in)
		assert.False(t, ok, name)
	}
}

func TestFramesOfOurOwnMaking(t *testing.T) {
	f, ok := wire.ParseFrame(wire.ARPRequest(hw, own, gateway))
	require.True(t, ok)
	assert.Equal(t, own, f.Claim)
	assert.Equal(t, hw, f.Hardware)
	assert.Equal(t, gateway, f.Asks)

	f, ok = wire.ParseFrame(wire.ARPRequest(hw, netip.Addr{}, own))
	require.True(t, ok)
	assert.False(t, f.Claim.IsValid(), "a probe claims nothing (RFC 5227)")
	assert.Equal(t, own, f.Asks)

	f, ok = wire.ParseFrame(wire.NeighbourSolicitation(hw, own6, gateway6))
	require.True(t, ok)
	assert.Equal(t, gateway6, f.Asks)
	assert.Equal(t, own6, f.Claim)
	assert.Equal(t, "ff02::1:ff00:1", f.To.Addr().String(), "the solicited-node group")

	f, ok = wire.ParseFrame(
		wire.UDPFrame(hw, wire.Broadcast, netip.MustParseAddrPort("0.0.0.0:68"), netip.MustParseAddrPort("255.255.255.255:67"),
			[]byte("discover")))
	require.True(t, ok)
	assert.Equal(t, "udp", f.Proto)
	assert.Equal(t, uint16(67), f.To.Port())
	assert.Equal(t, "discover", string(f.Payload))
}

func TestWhatIsHandedToANeighbour(t *testing.T) {
	other := endpoint.HardwareAddr{2, 0, 0, 0, 0, 9}
	for _, c := range []struct{ own, to netip.Addr }{{own, netip.MustParseAddr("203.0.113.80")},
		{own6, netip.MustParseAddr("2001:db8:113::80")}} {
		f, ok := wire.ParseFrame(wire.EchoFrame(hw, other, c.own, c.to, 64, 7, 1))
		require.True(t, ok)
		assert.Equal(t, "icmp", f.Proto)
		assert.Equal(t, other, f.Towards)
		assert.Equal(t, c.to, f.To.Addr())
		f, ok = wire.ParseFrame(wire.SYNFrame(hw, other, netip.AddrPortFrom(c.own, 40001), netip.AddrPortFrom(c.to, 443), 64, 5))
		require.True(t, ok)
		assert.Equal(t, "tcp", f.Proto)
		assert.Equal(t, netip.AddrPortFrom(c.to, 443), f.To)
		assert.Equal(t, netip.AddrPortFrom(c.own, 40001), f.From)
	}
}

func FuzzParsePacket(f *testing.F) {
	echo, udp, tcp, echo6 := sent(f)
	for _, seed := range [][]byte{echo, udp, tcp, echo6, icmp4(f, gateway, 11, 0, echo), icmp4(f, bookings, 3, 3, udp[:28]),
		icmp6(f, gateway6, 3, 0, echo6)} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, in []byte) {
		if r, ok := wire.ParsePacket(in); ok && (r.Outcome == evidence.NotKnown || !r.From.IsValid() || !r.About.To.Addr().IsValid()) {
			t.Fatalf("half a report: %+v", r)
		}
	})
}

func FuzzParseFrame(f *testing.F) {
	f.Add(wire.ARPRequest(hw, own, gateway))
	f.Add(wire.NeighbourSolicitation(hw, own6, gateway6))
	f.Add(wire.UDPFrame(hw, wire.Broadcast, netip.MustParseAddrPort("0.0.0.0:68"), netip.MustParseAddrPort("255.255.255.255:67"),
		[]byte("x")))
	f.Fuzz(func(t *testing.T, in []byte) {
		if frame, ok := wire.ParseFrame(in); ok && frame.Claim.IsValid() && frame.Claim.IsUnspecified() {
			t.Fatal("a claim to no address")
		}
	})
}
