package frame

import (
	"encoding/binary"
	"fmt"
)

// EtherTypes (IEEE 802 numbers).
const (
	typeIPv4  = 0x0800
	typeARP   = 0x0806
	typeTag   = 0x8100
	typeOuter = 0x88a8
	typeIPv6  = 0x86dd
	typeLLDP  = 0x88cc
	// what is less is a length (IEEE 802.3 §3.2.6)
	leastType = 0x0600
)

var etherTypes = map[int]string{typeIPv4: "IPv4", typeARP: "ARP", typeTag: "a VLAN tag", typeOuter: "an outer VLAN tag", typeIPv6: "IPv6",
	typeLLDP: "LLDP", 0x888e: "port access control (IEEE 802.1X)", 0x8863: "PPPoE discovery", 0x8864: "PPPoE session"}

func (r *reader) ethernet() {
	l, b, ok := r.header("Ethernet", "IEEE 802.3 §3.1", 14)
	l.hardware(b, 0, "Destination Address")
	l.hardware(b, 6, "Source Address")
	kind := int(binary.BigEndian.Uint16(b[12:]))
	if kind < leastType {
		l.number(b, 12, 2, "Length", " octets")
		if ok && r.at+kind <= r.end {
			r.end = r.at + kind
		}
		r.payload()
		r.trailer()
		return
	}
	l.put(12, 2, "EtherType", typeWords(kind))
	for ok && (kind == typeTag || kind == typeOuter) {
		l, b, ok = r.header("VLAN tag", "IEEE 802.1Q §9.6", 4)
		l.put(0, 1, "Priority Code Point", fmt.Sprint(b[0]>>5))
		l.put(0, 1, "Drop Eligible", yesNo(b[0]&0x10 != 0))
		l.put(0, 2, "VLAN Identifier", coded(numberOf(b[:2])&0xfff, map[int]string{0: "none: the tag gives priority alone"}))
		kind = int(binary.BigEndian.Uint16(b[2:]))
		l.put(2, 2, "EtherType", typeWords(kind))
	}
	if ok {
		r.network(kind)
	}
	r.trailer()
}

func typeWords(kind int) string {
	words := "0x" + octetWords(binary.BigEndian.AppendUint16(nil, uint16(kind)))
	if w := etherTypes[kind]; w != "" {
		words += ", " + w
	}
	return words
}

func yesNo(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}

func (r *reader) network(kind int) {
	switch kind {
	case typeIPv4:
		r.ipv4()
	case typeIPv6:
		r.ipv6()
	case typeARP:
		r.arp()
	case typeLLDP:
		r.lldp()
	default:
		r.payload()
	}
}

// packet is an IP packet that has no link layer.
func (r *reader) packet() {
	switch b := r.rest(); {
	case len(b) > 0 && b[0]>>4 == 6:
		r.ipv6()
	case len(b) > 0 && b[0]>>4 == 4:
		r.ipv4()
	default:
		r.payload()
	}
}

func (r *reader) arp() {
	l, b, ok := r.header("ARP", "RFC 826", 28)
	if hlen, plen := b[4], b[5]; ok && (hlen != 6 || plen != 4) {
		l.wrong("addresses of %d and %d octets: only Ethernet and IPv4 are opened", hlen, plen)
	}
	l.coded(b, 0, 2, "Hardware Type", map[int]string{1: "Ethernet"})
	l.put(2, 2, "Protocol Type", typeWords(numberOf(b[2:4])))
	l.number(b, 4, 1, "Hardware Address Length", " octets")
	l.number(b, 5, 1, "Protocol Address Length", " octets")
	l.coded(b, 6, 2, "Opcode", map[int]string{1: "request: who has it?", 2: "reply: it is here"})
	if l.Wrong == "" || !ok {
		l.hardware(b, 8, "Sender Hardware Address")
		l.address(b, 14, 4, "Sender Protocol Address")
		l.hardware(b, 18, "Target Hardware Address")
		l.address(b, 24, 4, "Target Protocol Address")
	}
	if ok { // a frame of Ethernet is filled up to 60 octets
		r.end = r.at
	}
}
