// Package wire reads packets as they stand on the wire into the words of the ports. It is shared by every machine that sees raw packets.
package wire

import (
	"net/netip"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"

	"passepartout/internal/core/evidence"
)

// Report is what an ICMP packet says: an echo reply, or an error about a packet sent earlier, of which it quotes the beginning.
type Report struct {
	Outcome      evidence.Outcome // Answered for an echo reply, else Unreachable, Refused or Expired
	From, To     netip.Addr
	Why          evidence.Why
	Type, Code   uint8
	HopLimitLeft int
	Data         []byte // of an echo reply; it shares memory with the packet
	MTU          int    // of the link that it did not fit (RFC 1191 §4, RFC 4443 §3.2)
	About        Quote  // what was sent
}

// Quote identifies the packet that a report is about.
type Quote struct {
	Proto      uint8 // IP protocol number
	From, To   netip.AddrPort
	ID, Seq    uint16 // of an echo
	EchoFamily bool   // the quote is an echo request
	Rest       []byte // what is quoted from the transport header on; it shares memory with the packet
}

// ParsePacket reads an IP packet. It is false for anything but an echo reply or an ICMP error with a quote that can be told.
// Bytes from outside: any input gives a value or false, never a panic.
func ParsePacket(packet []byte) (Report, bool) {
	if len(packet) == 0 {
		return Report{}, false
	}
	first := gopacket.Decoder(layers.LayerTypeIPv4)
	if packet[0]>>4 == 6 {
		first = layers.LayerTypeIPv6
	}
	p := gopacket.NewPacket(packet, first, gopacket.DecodeOptions{Lazy: true, NoCopy: true})
	r := Report{}
	switch ip := p.NetworkLayer().(type) {
	case *layers.IPv4:
		r.From, r.To, r.HopLimitLeft = addr(ip.SrcIP), addr(ip.DstIP), int(ip.TTL)
		icmp, ok := p.Layer(layers.LayerTypeICMPv4).(*layers.ICMPv4)
		if !ok {
			return Report{}, false
		}
		return r.v4(icmp)
	case *layers.IPv6:
		r.From, r.To, r.HopLimitLeft = addr(ip.SrcIP), addr(ip.DstIP), int(ip.HopLimit)
		icmp, ok := p.Layer(layers.LayerTypeICMPv6).(*layers.ICMPv6)
		if !ok {
			return Report{}, false
		}
		return r.V6(icmp.TypeCode.Type(), icmp.TypeCode.Code(), icmp.LayerPayload())
	}
	return Report{}, false
}

func (r Report) v4(icmp *layers.ICMPv4) (Report, bool) {
	r.Type, r.Code = icmp.TypeCode.Type(), icmp.TypeCode.Code()
	switch r.Type {
	case layers.ICMPv4TypeEchoReply:
		r.Outcome, r.Data = evidence.Answered, icmp.LayerPayload()
		r.About = Quote{Proto: uint8(layers.IPProtocolICMPv4), EchoFamily: true, ID: icmp.Id, Seq: icmp.Seq,
			To: netip.AddrPortFrom(r.From, 0)}
		return r, true
	case layers.ICMPv4TypeDestinationUnreachable, layers.ICMPv4TypeTimeExceeded:
		if r.Type == layers.ICMPv4TypeDestinationUnreachable && r.Code == layers.ICMPv4CodeFragmentationNeeded {
			r.MTU = int(icmp.Seq)
		}
		return r.about(icmp.LayerPayload(), layers.LayerTypeIPv4, r.Type == layers.ICMPv4TypeTimeExceeded)
	}
	return Report{}, false
}

// V6 reads the body of an ICMPv6 message whose IP header the system has taken off already.
func (r Report) V6(icmpType, code uint8, body []byte) (Report, bool) {
	r.Type, r.Code = icmpType, code
	switch icmpType {
	case layers.ICMPv6TypeEchoReply:
		if len(body) < 4 {
			return Report{}, false
		}
		r.Outcome, r.Data = evidence.Answered, body[4:]
		r.About = Quote{Proto: uint8(layers.IPProtocolICMPv6), EchoFamily: true, ID: be16(body), Seq: be16(body[2:]),
			To: netip.AddrPortFrom(r.From, 0)}
		return r, true
	case layers.ICMPv6TypeDestinationUnreachable, layers.ICMPv6TypePacketTooBig, layers.ICMPv6TypeTimeExceeded:
		if len(body) < 4 {
			return Report{}, false
		}
		if icmpType == layers.ICMPv6TypePacketTooBig {
			r.MTU = int(be16(body))<<16 | int(be16(body[2:]))
		}
		return r.about(body[4:], layers.LayerTypeIPv6, icmpType == layers.ICMPv6TypeTimeExceeded)
	}
	return Report{}, false
}

// about decodes the quote. It is often cut off: what is there counts, not the length it claims (RFC 792 asks for eight octets).
func (r Report) about(quote []byte, first gopacket.Decoder, expired bool) (Report, bool) {
	p := gopacket.NewPacket(quote, first, gopacket.DecodeOptions{Lazy: false, NoCopy: true})
	var src, dst netip.Addr
	var rest []byte
	switch ip := p.NetworkLayer().(type) {
	case *layers.IPv4:
		src, dst, rest, r.About.Proto = addr(ip.SrcIP), addr(ip.DstIP), ip.LayerPayload(), uint8(ip.Protocol)
	case *layers.IPv6:
		src, dst, rest, r.About.Proto = addr(ip.SrcIP), addr(ip.DstIP), ip.LayerPayload(), uint8(ip.NextHeader)
	default:
		return Report{}, false
	}
	if len(rest) < 8 {
		return Report{}, false
	}
	r.About.From, r.About.To, r.About.Rest = netip.AddrPortFrom(src, 0), netip.AddrPortFrom(dst, 0), rest
	switch layers.IPProtocol(r.About.Proto) {
	case layers.IPProtocolTCP, layers.IPProtocolUDP:
		r.About.From, r.About.To = netip.AddrPortFrom(src, be16(rest)), netip.AddrPortFrom(dst, be16(rest[2:]))
	case layers.IPProtocolICMPv4, layers.IPProtocolICMPv6:
		r.About.EchoFamily = rest[0] == layers.ICMPv4TypeEchoRequest || rest[0] == layers.ICMPv6TypeEchoRequest
		r.About.ID, r.About.Seq = be16(rest[4:]), be16(rest[6:])
	}
	r.Outcome, r.Why = OutcomeOf(expired, src.Is6(), r.Type, r.Code, r.From, dst)
	return r, true
}

// OutcomeOf tells what an ICMP error means: port unreachable from the asked host itself is that host's refusal, from anybody else it is
// somebody in between who says that it cannot be reached.
func OutcomeOf(expired, v6 bool, icmpType, code uint8, from, asked netip.Addr) (evidence.Outcome, evidence.Why) {
	if expired {
		return evidence.Expired, evidence.NoReason
	}
	why := evidence.WhyOf(v6, icmpType, code)
	if (why == evidence.NoPort || why == evidence.NoProtocol) && from == asked {
		return evidence.Refused, why
	}
	return evidence.Unreachable, why
}

func addr(ip []byte) netip.Addr {
	a, _ := netip.AddrFromSlice(ip)
	return a.Unmap()
}

func be16(b []byte) uint16 { return uint16(b[0])<<8 | uint16(b[1]) }
