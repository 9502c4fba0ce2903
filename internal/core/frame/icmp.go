package frame

import (
	"fmt"

	"passepartout/internal/core/endpoint"
)

var icmpTypes = map[int]string{0: "echo reply", 3: "destination unreachable", 4: "source quench", 5: "redirect", 8: "echo request",
	9: "router advertisement", 10: "router solicitation", 11: "time exceeded", 12: "parameter problem", 13: "timestamp",
	14: "timestamp reply"}

// icmpCodes are those of RFC 792, RFC 1122 §3.2.2.1 and RFC 1812 §5.2.7, by type.
var icmpCodes = map[int]map[int]string{
	3: {0: "net unreachable", 1: "host unreachable", 2: "protocol unreachable", 3: "port unreachable",
		4: "too large, and not to be fragmented", 5: "source route failed", 9: "net prohibited", 10: "host prohibited",
		13: "communication prohibited"},
	5:  {0: "for the network", 1: "for the host"},
	11: {0: "on the way", 1: "while fragments were put together"},
}

var icmpTypes6 = map[int]string{1: "destination unreachable", 2: "packet too big", 3: "time exceeded", 4: "parameter problem",
	128: "echo request", 129: "echo reply", 130: "multicast listener query", 131: "multicast listener report",
	133: "router solicitation", 134: "router advertisement", 135: "neighbour solicitation", 136: "neighbour advertisement", 137: "redirect",
	143: "multicast listener report, version 2"}

// icmpCodes6 are those of RFC 4443 §3.
var icmpCodes6 = map[int]map[int]string{
	1: {0: "no route", 1: "prohibited", 2: "beyond the scope of the source", 3: "address unreachable", 4: "port unreachable",
		5: "the source is not allowed", 6: "the route refuses"},
	3: {0: "on the way", 1: "while fragments were put together"},
}

func (r *reader) icmp(whole bool) {
	message := r.rest()
	l, b, ok := r.header("ICMP", "RFC 792", 8)
	kind := int(b[0])
	l.coded(b, 0, 1, "Type", icmpTypes)
	l.coded(b, 1, 1, "Code", icmpCodes[kind])
	l.put(2, 2, "Checksum", checksum(b, 2, ok && whole, message))
	switch kind {
	case 0, 8:
		l.echo(b)
	case 3:
		if b[1] == 4 {
			l.number(b, 6, 2, "Next-Hop MTU", " octets (RFC 1191 §4)")
		}
	case 5:
		l.address(b, 4, 4, "Gateway Internet Address")
	case 11:
	case 12:
		l.number(b, 4, 1, "Pointer", "")
	default:
		l.octetsOf(b, 4, 4, "Rest of the header")
	}
	r.quote(ok, kind == 3 || kind == 5 || kind == 11 || kind == 12)
}

// echo are the fields that both protocols' echo messages have.
func (l *Layer) echo(b []byte) {
	l.number(b, 4, 2, "Identifier", "")
	l.number(b, 6, 2, "Sequence Number", "")
}

// quote opens the packet that an error is about, as far as it is quoted.
func (r *reader) quote(ok, quotes bool) {
	switch {
	case !ok:
	case quotes && !r.quoted && r.at < r.end:
		r.quoted = true
		r.packet()
	default:
		r.payload()
	}
}

func (r *reader) icmpv6(whole bool) {
	message := r.rest()
	kind := 0
	if len(message) > 0 {
		kind = int(message[0])
	}
	length := map[int]int{133: 8, 134: 16, 135: 24, 136: 24, 137: 40}[kind]
	source := "RFC 4861 §4"
	if length == 0 {
		length, source = 8, "RFC 4443 §2.1"
	}
	l, b, ok := r.header("ICMPv6", source, length)
	l.coded(b, 0, 1, "Type", icmpTypes6)
	l.coded(b, 1, 1, "Code", icmpCodes6[kind])
	l.put(2, 2, "Checksum", checksum(b, 2, ok && whole, r.pseudo(protoICMPv6, len(message)), message))
	switch kind {
	case 1, 3, 133:
	case 2:
		l.number(b, 4, 4, "MTU", " octets")
	case 4:
		l.number(b, 4, 4, "Pointer", "")
	case 128, 129:
		l.echo(b)
	case 134:
		l.number(b, 4, 1, "Cur Hop Limit", "")
		l.put(5, 1, "Flags", flags(int(b[5]>>6), "addresses by DHCPv6 (M)", "other settings by DHCPv6 (O)"))
		l.number(b, 6, 2, "Router Lifetime", " s")
		l.number(b, 8, 4, "Reachable Time", " ms")
		l.number(b, 12, 4, "Retrans Timer", " ms")
	case 135:
		l.address(b, 8, 16, "Target Address")
	case 136:
		l.put(4, 1, "Flags", flags(int(b[4]>>5), "a router (R)", "solicited (S)", "override (O)"))
		l.address(b, 8, 16, "Target Address")
	case 137:
		l.address(b, 8, 16, "Target Address")
		l.address(b, 24, 16, "Destination Address")
	default:
		l.octetsOf(b, 4, 4, "Rest of the header")
	}
	if ok && kind >= 133 && kind <= 137 {
		r.discoveryOptions()
		return
	}
	r.quote(ok, kind >= 1 && kind <= 4)
}

// discoveryOptions are those of neighbour discovery (RFC 4861 §4.6, RFC 8106).
func (r *reader) discoveryOptions() {
	n := r.end - r.at
	if n == 0 {
		return
	}
	l, b, _ := r.header("options", "RFC 4861 §4.6", n)
	for at := 0; at < n; {
		size := 0
		if at+1 < n {
			size = 8 * int(b[at+1])
		}
		if size == 0 || at+size > n {
			l.wrong("an option runs past the message")
			return
		}
		name, value := discoveryOption(b[at : at+size])
		l.put(at, size, name, value)
		at += size
	}
}

func discoveryOption(b []byte) (name, value string) {
	switch kind := b[0]; {
	case (kind == 1 || kind == 2) && len(b) == 8:
		h, _ := endpoint.HardwareFrom(b[2:8])
		return map[byte]string{1: "Source Link-Layer Address", 2: "Target Link-Layer Address"}[kind], h.String()
	case kind == 3 && len(b) == 32:
		return "Prefix Information", fmt.Sprintf("%v/%d, %s, valid %s, preferred %s", addressOf(b[16:32]), b[2],
			flags(int(b[3]>>6), "on-link (L)", "for addresses (A)"), lifetime(b[4:8]), lifetime(b[8:12]))
	case kind == 5 && len(b) == 8:
		return "MTU", fmt.Sprintf("%d octets", numberOf(b[4:8]))
	case kind == 25 && len(b)%16 == 8:
		words := "for " + lifetime(b[4:8]) + ":"
		for i := 8; i < len(b); i += 16 {
			words += " " + addressOf(b[i:i+16]).String()
		}
		return "Recursive DNS Servers (RFC 8106)", words
	case kind == 31 && len(b) > 8:
		return "DNS Search List (RFC 8106)", "for " + lifetime(b[4:8]) + ": " + names(b[8:])
	case kind == 14:
		return "Nonce (RFC 3971)", octetWords(b[2:])
	}
	return fmt.Sprintf("Option %d", b[0]), octetWords(b[2:])
}

func lifetime(b []byte) string {
	if n := numberOf(b); n != 0xffffffff {
		return fmt.Sprintf("%d s", n)
	}
	return "for ever"
}
