package wire_test

import (
	"encoding/binary"
	"net/netip"
	"testing"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/stretchr/testify/assert"

	"passepartout/internal/machine/wire"
)

// Packets of one flow are alike to every router: the same ports, the same length, and for UDP the same checksum whatever the number.
func TestPacketsOfAFlowAreAlike(t *testing.T) {
	from, to := netip.MustParseAddrPort("172.27.40.23:40000"), netip.MustParseAddrPort("203.0.113.80:33434")
	first := wire.Datagram(from, to, wire.FlowPayload(0))
	for _, n := range []uint16{1, 255, 256, 40000, 65535} {
		b := wire.Datagram(from, to, wire.FlowPayload(n))
		assert.Equal(t, first[:8], b[:8], "ports, length and checksum of number %d", n)
		got, ok := wire.FlowNumber(b[8:12])
		assert.True(t, ok)
		assert.Equal(t, n, got, "told from the first octets of the payload, all that some routers quote")
	}
	for _, ends := range [][2]string{{"172.27.40.23:40000", "203.0.113.80:443"}, {"[2001:db8:40::23]:40000", "[2001:db8:113::70]:443"}} {
		from, to := netip.MustParseAddrPort(ends[0]), netip.MustParseAddrPort(ends[1])
		b := wire.SYN(from, to, 77)
		p := gopacket.NewPacket(b, layers.LayerTypeTCP, gopacket.Default)
		tcp := p.Layer(layers.LayerTypeTCP).(*layers.TCP)
		assert.True(t, tcp.SYN && !tcp.ACK)
		n, ok := wire.SYNNumber(tcp.Seq)
		assert.True(t, ok)
		assert.Equal(t, uint16(77), n)
	}
}

func TestAnswersToASYN(t *testing.T) {
	segment := func(src, dst uint16, ack uint32, flags byte) []byte {
		b := make([]byte, 20)
		binary.BigEndian.PutUint16(b, src)
		binary.BigEndian.PutUint16(b[2:], dst)
		binary.BigEndian.PutUint32(b[8:], ack)
		b[13] = flags
		return b
	}
	ours := uint32(0x7066<<16|9) + 1
	for _, c := range []struct {
		name        string
		segment     []byte
		number      uint16
		refused, ok bool
	}{
		{"SYN ACK", segment(443, 40000, ours, 0x12), 9, false, true},
		{"reset", segment(443, 40000, ours, 0x14), 9, true, true},
		{"another connection's", segment(443, 40000, 1234, 0x12), 0, false, false},
		{"another port's", segment(80, 40000, ours, 0x12), 0, false, false},
		{"without ACK", segment(443, 40000, ours, 0x02), 0, false, false},
		{"cut off", segment(443, 40000, ours, 0x12)[:12], 0, false, false},
	} {
		number, refused, ok := wire.SYNAnswer(c.segment, 40000, 443)
		assert.Equal(t, []any{c.refused && c.ok, c.ok}, []any{refused && ok, ok}, c.name)
		if c.ok {
			assert.Equal(t, c.number, number, c.name)
		}
	}
	_, ok := wire.FlowNumber([]byte("abc"))
	assert.False(t, ok)
	numbered := func(b []byte, seq byte) []byte { b[7] = seq; return b }
	for _, c := range []struct {
		name    string
		segment []byte
		answers bool
	}{
		{"SYN ACK", numbered(segment(443, 40000, 5, 0x12), 1), true},
		{"the reset of a SYN", segment(443, 40000, 5, 0x14), true},
		{"the reset of a connection that there was", numbered(segment(443, 40000, 0, 0x04), 1), false},
		{"the end of an older connection, repeated", numbered(segment(443, 40000, 5, 0x11), 1), false},
		{"data", numbered(segment(443, 40000, 5, 0x18), 1), false},
		{"a SYN of its own", segment(443, 40000, 0, 0x02), false},
		{"cut off", segment(443, 40000, 5, 0x12)[:12], false},
	} {
		assert.Equal(t, c.answers, wire.AnswersSYN(c.segment), c.name)
	}
}

// A router that says "too big" says for what (RFC 1191 §4).
func TestTooBigTellsTheMTU(t *testing.T) {
	quote := append([]byte{0x45, 0, 0, 48, 0, 0, 0x40, 0, 1, 1, 0, 0, 172, 27, 40, 23, 203, 0, 113, 80}, 8, 0, 0, 0, 0, 7, 0, 9)
	icmp := append([]byte{3, 4, 0, 0, 0, 0, 0x05, 0x78}, quote...)
	packet := append([]byte{0x45, 0, 0, byte(20 + len(icmp)), 0, 0, 0, 0, 60, 1, 0, 0, 198, 51, 100, 1, 172, 27, 40, 23}, icmp...)
	r, ok := wire.ParsePacket(packet)
	assert.True(t, ok)
	assert.Equal(t, 1400, r.MTU)
	assert.Equal(t, uint16(9), r.About.Seq)
}

func FuzzSYNAnswer(f *testing.F) {
	f.Add([]byte("\x01\xbb\x9c\x40\x00\x00\x00\x00\x70\x66\x00\x0a\x50\x12\x00\x00\x00\x00\x00\x00"))
	f.Fuzz(func(_ *testing.T, b []byte) {
		wire.SYNAnswer(b, 40000, 443)
		wire.AnswersSYN(b)
		wire.FlowNumber(b)
	})
}
