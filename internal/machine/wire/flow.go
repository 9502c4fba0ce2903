package wire

import (
	"encoding/binary"
	"net/netip"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"

	"passepartout/internal/core/evidence"
)

// flowMark begins the payload of a flow's datagrams, and the upper half of its sequence numbers: what lacks it is not ours.
const flowMark = 0x7066

// flowPayloadSize is enough for the mark, the number and a pattern.
const flowPayloadSize = 24

// FlowPayload is what datagram number of a UDP flow carries. All are of one length, and the last two octets make up for the number, so that
// the checksum is the same as well.
func FlowPayload(number uint16) []byte {
	b := make([]byte, flowPayloadSize)
	binary.BigEndian.PutUint16(b, flowMark)
	binary.BigEndian.PutUint16(b[2:], number)
	for i := 4; i < flowPayloadSize-2; i++ {
		b[i] = byte('a' + i%26)
	}
	binary.BigEndian.PutUint16(b[flowPayloadSize-2:], ^number)
	return b
}

// FlowNumber reads a datagram's number from the beginning of its payload; routers often quote no more.
func FlowNumber(payload []byte) (number uint16, ok bool) {
	if len(payload) < 4 || binary.BigEndian.Uint16(payload) != flowMark {
		return 0, false
	}
	return binary.BigEndian.Uint16(payload[2:]), true
}

// SYN is the segment that asks for a connection (RFC 9293 §3.5), with a number in its sequence number.
func SYN(from, to netip.AddrPort, number uint16) []byte {
	return encode(from, to,
		&layers.TCP{SrcPort: layers.TCPPort(from.Port()), DstPort: layers.TCPPort(to.Port()), Seq: flowMark<<16 | uint32(number), SYN: true,
			Window:  64240,
			Options: []layers.TCPOption{{OptionType: layers.TCPOptionKindMSS, OptionLength: 4, OptionData: []byte{0x05, 0xb4}}}})
}

// Datagram is a UDP datagram with its header (RFC 768).
func Datagram(from, to netip.AddrPort, payload []byte) []byte {
	return encode(from, to, &layers.UDP{SrcPort: layers.UDPPort(from.Port()), DstPort: layers.UDPPort(to.Port())},
		gopacket.Payload(payload))
}

// transport is a header whose checksum covers the addresses.
type transport interface {
	gopacket.SerializableLayer
	SetNetworkLayerForChecksum(gopacket.NetworkLayer) error
}

func encode(from, to netip.AddrPort, head transport, rest ...gopacket.SerializableLayer) []byte {
	var ip gopacket.NetworkLayer = &layers.IPv4{SrcIP: from.Addr().AsSlice(), DstIP: to.Addr().AsSlice()}
	if to.Addr().Is6() {
		ip = &layers.IPv6{SrcIP: from.Addr().AsSlice(), DstIP: to.Addr().AsSlice()}
	}
	buf := gopacket.NewSerializeBuffer()
	if head.SetNetworkLayerForChecksum(ip) != nil ||
		gopacket.SerializeLayers(buf, gopacket.SerializeOptions{FixLengths: true, ComputeChecksums: true},
			append([]gopacket.SerializableLayer{head}, rest...)...) != nil {
		panic("wire: a packet that cannot be encoded") // our own values only
	}
	return append([]byte(nil), buf.Bytes()...)
}

// SYNNumber reads the number from a sequence number.
func SYNNumber(seq uint32) (number uint16, ok bool) { return uint16(seq), seq>>16 == flowMark }

// SYNAnswer reads a segment that answers a SYN: the acknowledgement tells which one. refused is a reset.
func SYNAnswer(segment []byte, own, asked uint16) (number uint16, refused, ok bool) {
	if len(segment) < 20 || binary.BigEndian.Uint16(segment) != asked || binary.BigEndian.Uint16(segment[2:]) != own {
		return 0, false, false
	}
	const reset, ack = 4, 16
	if segment[13]&ack == 0 {
		return 0, false, false
	}
	number, ok = SYNNumber(binary.BigEndian.Uint32(segment[8:]) - 1)
	return number, segment[13]&reset != 0, ok
}

// AnswersSYN reports whether a segment can be the answer to a SYN: a SYN with an acknowledgement, or the reset of a SYN that nobody waits
// for, whose sequence number is zero (RFC 9293 §3.10.7.1). What an older connection repeats is neither.
func AnswersSYN(segment []byte) bool {
	const syn, reset, ack = 2, 4, 16
	if len(segment) < 20 || segment[13]&ack == 0 {
		return false
	}
	return segment[13]&syn != 0 || segment[13]&reset != 0 && binary.BigEndian.Uint32(segment[4:]) == 0
}

// AnsweredFlow is the outcome of a packet that reached its destination.
func AnsweredFlow(refused bool) evidence.Outcome {
	if refused {
		return evidence.Refused
	}
	return evidence.Answered
}
