package wire_test

import (
	"net"
	"net/netip"
	"testing"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"
	"github.com/insomniacslk/dhcp/dhcpv6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/dhcp"
	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/machine/wire"
)

var (
	hw6    = endpoint.HardwareAddr{2, 0, 0, 0, 0x10, 1}
	router = netip.MustParseAddr("fe80::1")
	prefix = netip.MustParsePrefix("2001:db8:40::/64")
	core6  = netip.MustParseAddr("2001:db8:40::2")
)

func TestParseDHCP(t *testing.T) {
	m, err := dhcpv4.New(dhcpv4.WithMessageType(dhcpv4.MessageTypeAck), dhcpv4.WithHwAddr(net.HardwareAddr{2, 0, 0, 0, 0x10, 0x17}),
		dhcpv4.WithYourIP(net.IP{172, 27, 40, 23}), dhcpv4.WithRelay(net.IP{172, 27, 40, 1}),
		dhcpv4.WithOption(dhcpv4.OptHostName("ticket-03")))
	require.NoError(t, err)
	m.OpCode, m.TransactionID = dhcpv4.OpcodeBootReply, dhcpv4.TransactionID{0x39, 3, 0xf3, 0x26}
	got, err := wire.ParseDHCP(m.ToBytes())
	require.NoError(t, err)
	assert.True(t, got.Reply)
	assert.Equal(t, dhcp.Ack, got.Type)
	assert.Equal(t, uint32(0x3903f326), got.XID)
	assert.Equal(t, "172.27.40.23", got.Your.String())
	assert.Equal(t, "172.27.40.1", got.Relay.String())
	assert.False(t, got.Own.IsValid(), "0.0.0.0 is none")
	assert.Equal(t, "ticket-03", got.Hostname())
	_, err = wire.ParseDHCP(m.ToBytes()[:239])
	assert.ErrorIs(t, err, wire.ErrShort)
	noise := m.ToBytes()
	noise[0] = 9
	_, err = wire.ParseDHCP(noise)
	assert.ErrorIs(t, err, wire.ErrForm)
}

var translation = netip.MustParsePrefix("64:ff9b::/96")

func TestRouterAdvertisement(t *testing.T) {
	frame := wire.RouterAdvertisement(hw6, router,
		wire.Advertised{Lifetime: 30 * time.Minute, Other: true, Prefix: prefix, Valid: 24 * time.Hour, Resolvers: []netip.Addr{core6},
			CaptivePortal: "https://portal.kittiwake.example/", Translation: translation})
	got, ok := wire.ParseAdvertisement(frame)
	require.True(t, ok)
	assert.Equal(t,
		evidence.Advertisement{Router: router, Hardware: hw6, Lifetime: 30 * time.Minute, Other: true, Resolvers: []netip.Addr{core6},
			CaptivePortal: "https://portal.kittiwake.example/", Translation: translation,
			Prefixes: []evidence.AdvertisedPrefix{
				{Prefix: prefix, OnLink: true, Autonomous: true, Valid: 24 * time.Hour, Preferred: 24 * time.Hour}}}, got)
	far := append([]byte(nil), frame...)
	far[14+7] = 254 // a router further away than the link (RFC 4861 §6.1.2)
	_, ok = wire.ParseAdvertisement(far)
	assert.False(t, ok)
	assert.True(t, wire.IsSolicitation(wire.RouterSolicitation(hw6, router)))
	assert.False(t, wire.IsSolicitation(frame))
}

func TestInformationRequest(t *testing.T) {
	frame, xid, err := wire.InformationRequest(hw6, router)
	require.NoError(t, err)
	f, ok := wire.ParseFrame(frame)
	require.True(t, ok)
	assert.Equal(t, uint16(wire.ServerPort6), f.To.Port())
	q, err := dhcpv6.MessageFromBytes(f.Payload)
	require.NoError(t, err)
	assert.Equal(t, dhcpv6.MessageTypeInformationRequest, q.MessageType)
	reply, err := dhcpv6.NewReplyFromMessage(q, dhcpv6.WithServerID(q.Options.ClientID()), dhcpv6.WithDNS(net.IP(core6.AsSlice())))
	require.NoError(t, err)
	assert.True(t, q.IsOptionRequested(wire.OptCaptivePortal6))
	reply.AddOption(
		&dhcpv6.OptionGeneric{OptionCode: wire.OptCaptivePortal6, OptionData: []byte("https://portal\x1b[2J.kittiwake.example/")})
	got, ok := wire.ParseInformation(reply.ToBytes(), xid)
	require.True(t, ok)
	assert.Equal(t, []netip.Addr{core6}, got.Resolvers)
	assert.NotContains(t, got.CaptivePortal, "\x1b", "strings from the wire are hostile")
	assert.Contains(t, got.CaptivePortal, "https://portal")
	_, ok = wire.ParseInformation(reply.ToBytes(), [3]byte{1})
	assert.False(t, ok, "an answer to another question")
	_, ok = wire.ParseInformation(f.Payload, xid)
	assert.False(t, ok, "a question")
}

func FuzzAdvertisement(f *testing.F) {
	f.Add(wire.RouterAdvertisement(hw6, router, wire.Advertised{Prefix: prefix, Resolvers: []netip.Addr{core6}, Translation: translation}))
	frame, _, _ := wire.InformationRequest(hw6, router)
	f.Add(frame)
	f.Fuzz(func(t *testing.T, in []byte) {
		if a, ok := wire.ParseAdvertisement(in); ok && (len(a.Prefixes) > 16 || len(a.Resolvers) > 64) {
			t.Fatalf("%d prefixes, %d resolvers", len(a.Prefixes), len(a.Resolvers))
		}
		if i, ok := wire.ParseInformation(in, [3]byte{}); ok && len(i.Resolvers) > 16 {
			t.Fatal("too many")
		}
		if m, err := wire.ParseDHCP(in); err == nil {
			_ = m.Terms()
			_ = m.Described()
		}
	})
}
