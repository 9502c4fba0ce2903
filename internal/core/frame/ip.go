package frame

import (
	"encoding/binary"
	"fmt"
)

// Protocols (the registry of protocol numbers).
const (
	protoICMP, protoTCP, protoUDP, protoICMPv6  = 1, 6, 17, 58
	headerHops, headerRouting, headerFragment   = 0, 43, 44
	headerESP, headerAuth, headerNone, headerTo = 50, 51, 59, 60
)

var protocols = map[int]string{protoICMP: "ICMP", protoTCP: "TCP", protoUDP: "UDP", protoICMPv6: "ICMPv6", 2: "IGMP", 4: "IPv4 in IP",
	41: "IPv6 in IP", 47: "GRE", 89: "OSPF", 112: "VRRP", headerHops: "hop-by-hop options", headerRouting: "a routing header",
	headerFragment: "a fragment header", headerESP: "ESP, encrypted", headerAuth: "an authentication header",
	headerNone: "nothing", headerTo: "destination options"}

// ecn are the two bits of RFC 3168 §5.
var ecn = []string{"not capable", "capable, ECT(1)", "capable, ECT(0)", "congestion experienced"}

func trafficClass(b byte) string {
	return fmt.Sprintf("DSCP %d (RFC 2474), ECN: %s (RFC 3168)", b>>2, ecn[b&3])
}

func (r *reader) ipv4() {
	length := 20
	if b := r.rest(); len(b) > 0 {
		length = max(int(b[0]&0xf)*4, 20)
	}
	l, b, ok := r.header("IPv4", "RFC 791 §3.1", length)
	if v := b[0] >> 4; v != 4 {
		l.wrong("version %d, not 4", v)
	} else if int(b[0]&0xf) < 5 {
		l.wrong("a header of %d octets: it has 20 at least", int(b[0]&0xf)*4)
	}
	l.put(0, 1, "Version", fmt.Sprint(b[0]>>4))
	l.put(0, 1, "IHL", fmt.Sprintf("%d words, %d octets", b[0]&0xf, int(b[0]&0xf)*4))
	l.put(1, 1, "Type of Service", trafficClass(b[1]))
	l.number(b, 2, 2, "Total Length", " octets")
	l.number(b, 4, 2, "Identification", "")
	l.put(6, 1, "Flags", flags(int(b[6]>>5), "", "don't fragment", "more fragments"))
	offset := numberOf(b[6:8]) & 0x1fff
	l.put(6, 2, "Fragment Offset", fmt.Sprintf("%d octets", offset*8))
	l.number(b, 8, 1, "Time to Live", "")
	l.coded(b, 9, 1, "Protocol", protocols)
	l.put(10, 2, "Header Checksum", checksum(b, 10, ok && !r.quoted, b))
	l.address(b, 12, 4, "Source Address")
	l.address(b, 16, 4, "Destination Address")
	if length > 20 {
		l.octetsOf(b, 20, length-20, "Options")
	}
	r.from, r.to = addressOf(b[12:16]), addressOf(b[16:20])
	if !ok {
		return
	}
	r.bound(l, numberOf(b[2:4])-length)
	if offset > 0 { // what stands here is the middle of something
		r.payload()
		return
	}
	r.carried(int(b[9]), b[6]&0x20 == 0)
}

// bound ends what is to be opened where a length says so.
func (r *reader) bound(l *Layer, octets int) {
	switch have := r.end - r.at; {
	case octets < 0:
		l.wrong("the length that it gives is less than its header")
	case octets <= have:
		r.end = r.at + octets
	case r.quoted: // an error quotes the beginning alone
	case octets > 0 && have < octets:
		l.wrong("%d octets of %d that it gives are here: the frame was not kept whole", have, octets)
	}
}

func (r *reader) ipv6() {
	l, b, ok := r.header("IPv6", "RFC 8200 §3", 40)
	if v := b[0] >> 4; v != 6 {
		l.wrong("version %d, not 6", v)
	}
	l.put(0, 1, "Version", fmt.Sprint(b[0]>>4))
	l.put(0, 2, "Traffic Class", trafficClass(b[0]<<4|b[1]>>4))
	l.put(1, 3, "Flow Label", fmt.Sprintf("%05x", numberOf(b[1:4])&0xfffff))
	l.number(b, 4, 2, "Payload Length", " octets")
	l.coded(b, 6, 1, "Next Header", protocols)
	l.number(b, 7, 1, "Hop Limit", "")
	l.address(b, 8, 16, "Source Address")
	l.address(b, 24, 16, "Destination Address")
	r.from, r.to = addressOf(b[8:24]), addressOf(b[24:40])
	if !ok {
		return
	}
	r.bound(l, numberOf(b[4:6]))
	r.extended(int(b[6]))
}

// extended goes through the extension headers (RFC 8200 §4).
func (r *reader) extended(next int) {
	for whole := true; ; {
		length := 8
		if b := r.rest(); len(b) > 1 && next != headerFragment {
			length = 8 * (1 + int(b[1]))
			if next == headerAuth {
				length = 4 * (2 + int(b[1])) // RFC 4302 §2.2
			}
		}
		name := map[int]string{headerHops: "hop-by-hop options", headerRouting: "routing header", headerFragment: "fragment header",
			headerTo: "destination options", headerAuth: "authentication header"}[next]
		if name == "" {
			r.carried(next, whole)
			return
		}
		source := "RFC 8200 §4"
		if next == headerAuth {
			source = "RFC 4302 §2"
		}
		l, b, ok := r.header(name, source, length)
		l.coded(b, 0, 1, "Next Header", protocols)
		middle := false
		if next == headerFragment {
			field := int(binary.BigEndian.Uint16(b[2:]))
			l.put(2, 2, "Fragment Offset", fmt.Sprintf("%d octets", field&^7))
			l.put(3, 1, "M", map[bool]string{true: "more fragments", false: "the last fragment"}[field&1 != 0])
			l.octetsOf(b, 4, 4, "Identification")
			middle, whole = field&^7 > 0, field&1 == 0
		} else {
			l.put(1, 1, "Hdr Ext Len", fmt.Sprintf("%d octets", length))
			l.octetsOf(b, 2, length-2, "Options")
		}
		if !ok {
			return
		}
		if middle {
			r.payload()
			return
		}
		next = int(b[0])
	}
}

// carried opens what an IP packet carries; whole: it is no fragment.
func (r *reader) carried(proto int, whole bool) {
	if len(r.layers) >= mostLayers {
		return
	}
	whole = whole && !r.quoted && r.layers[len(r.layers)-1].Wrong == ""
	switch {
	case proto == headerNone || r.at == r.end:
	case proto == protoTCP:
		r.tcp(whole)
	case proto == protoUDP:
		r.udp(whole)
	case proto == protoICMP && r.from.Is4():
		r.icmp(whole)
	case proto == protoICMPv6 && r.from.Is6():
		r.icmpv6(whole)
	case proto == 4 || proto == 41:
		r.packet()
	default:
		r.payload()
	}
}

// pseudo is the header that the checksums of what IP carries take in (RFC 9293 §3.1, RFC 8200 §8.1).
func (r *reader) pseudo(proto, octets int) []byte {
	b := append(r.from.AsSlice(), r.to.AsSlice()...)
	b = binary.BigEndian.AppendUint32(b, uint32(octets))
	return binary.BigEndian.AppendUint32(b, uint32(proto))
}
