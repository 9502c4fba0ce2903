package frame

import (
	"fmt"
	"net/netip"

	"passepartout/internal/core/wording"
)

// services are the ports whose messages are opened, and what else is worth a word.
var services = map[int]string{53: "DNS", 67: "DHCP server", 68: "DHCP client", 80: "HTTP", 443: "HTTPS", 22: "SSH", 123: "NTP", 445: "SMB",
	25: "SMTP", 389: "LDAP", 546: "DHCPv6 client", 547: "DHCPv6 server", 5353: "mDNS", 5355: "LLMNR", 853: "DNS over TLS", 3389: "RDP"}

func (r *reader) tcp(whole bool) {
	length := 20
	if b := r.rest(); len(b) > 12 {
		length = max(int(b[12]>>4)*4, 20)
	}
	segment := r.rest()
	l, b, ok := r.header("TCP", "RFC 9293 §3.1", length)
	l.coded(b, 0, 2, "Source Port", services)
	l.coded(b, 2, 2, "Destination Port", services)
	l.number(b, 4, 4, "Sequence Number", "")
	l.number(b, 8, 4, "Acknowledgment Number", "")
	if n := int(b[12] >> 4); ok && n < 5 {
		l.wrong("a header of %d octets: it has 20 at least", n*4)
	}
	l.put(12, 1, "Data Offset", fmt.Sprintf("%d words, %d octets", b[12]>>4, int(b[12]>>4)*4))
	l.put(13, 1, "Control Bits", flags(int(b[13]), "CWR", "ECE", "URG", "ACK", "PSH", "RST", "SYN", "FIN"))
	l.number(b, 14, 2, "Window", "")
	l.put(16, 2, "Checksum", checksum(b, 16, ok && whole, r.pseudo(protoTCP, len(segment)), segment))
	l.number(b, 18, 2, "Urgent Pointer", "")
	l.tcpOptions(b)
	if !ok {
		return
	}
	from, to := numberOf(b[:2]), numberOf(b[2:4])
	if data := r.rest(); (from == 53 || to == 53) && len(data) > 2 && numberOf(data[:2]) == len(data)-2 { // RFC 1035 §4.2.2
		l, b, _ := r.header("length of the message", "RFC 1035 §4.2.2", 2)
		l.number(b, 0, 2, "Length", " octets")
		r.dns("DNS")
		return
	}
	r.payload()
}

// tcpOptions are those of RFC 9293 §3.2, RFC 7323 and RFC 2018.
func (l *Layer) tcpOptions(b []byte) {
	for at := 20; at < l.Octets; {
		kind, size := b[at], 1
		if kind > 1 {
			if at+1 >= l.Octets || b[at+1] < 2 || at+int(b[at+1]) > l.Octets {
				l.wrong("an option runs past the header")
				return
			}
			size = int(b[at+1])
		}
		data := b[min(at+2, at+size) : at+size]
		name, value := fmt.Sprintf("Option %d", kind), octetWords(data)
		switch {
		case kind == 0:
			name, value, size = "End of Option List", fmt.Sprintf("%d octets", l.Octets-at), l.Octets-at
		case kind == 1:
			name, value = "No-Operation", ""
		case kind == 2 && len(data) == 2:
			name, value = "Maximum Segment Size", fmt.Sprintf("%d octets", numberOf(data))
		case kind == 3 && len(data) == 1:
			name, value = "Window Scale", fmt.Sprintf("shift by %d", data[0])
		case kind == 4 && len(data) == 0:
			name, value = "SACK Permitted", "yes"
		case kind == 5 && len(data)%8 == 0:
			name, value = "SACK", ""
			for i := 0; i < len(data); i += 8 {
				value += fmt.Sprintf("%d to %d; ", numberOf(data[i:i+4]), numberOf(data[i+4:i+8]))
			}
			value = value[:max(len(value)-2, 0)]
		case kind == 8 && len(data) == 8:
			name, value = "Timestamps", fmt.Sprintf("TSval %d, TSecr %d", numberOf(data[:4]), numberOf(data[4:]))
		}
		l.put(at, size, name, value)
		at += size
	}
}

func (r *reader) udp(whole bool) {
	datagram := r.rest()
	l, b, ok := r.header("UDP", "RFC 768", 8)
	from, to := numberOf(b[:2]), numberOf(b[2:4])
	l.coded(b, 0, 2, "Source Port", services)
	l.coded(b, 2, 2, "Destination Port", services)
	l.number(b, 4, 2, "Length", " octets")
	sumWords := "0000, none was computed"
	if b[6] != 0 || b[7] != 0 {
		sumWords = checksum(b, 6, ok && whole && numberOf(b[4:6]) == len(datagram), r.pseudo(protoUDP, len(datagram)), datagram)
	}
	l.put(6, 2, "Checksum", sumWords)
	if !ok {
		return
	}
	r.bound(l, numberOf(b[4:6])-8)
	switch is := func(port int) bool { return from == port || to == port }; {
	case r.at == r.end:
	case r.quoted && len(r.rest()) < 12:
		r.payload()
	case is(5353):
		r.dns("mDNS")
	case is(5355):
		r.dns("LLMNR")
	case is(53):
		r.dns("DNS")
	case is(67) || is(68):
		r.dhcp()
	case is(546) || is(547):
		r.dhcpv6()
	default:
		r.payload()
	}
}

// messages6 are the messages of DHCPv6 (RFC 8415 §7.3).
var messages6 = map[int]string{1: "solicit", 2: "advertise", 3: "request", 4: "confirm", 5: "renew", 6: "rebind", 7: "reply", 8: "release",
	9: "decline", 10: "reconfigure", 11: "information-request", 12: "relay-forward", 13: "relay-reply"}

var options6 = map[int]string{1: "Client Identifier", 2: "Server Identifier", 3: "IA for addresses", 5: "IA Address", 6: "Option Request",
	7: "Preference", 8: "Elapsed Time", 13: "Status Code", 14: "Rapid Commit", 23: "DNS servers (RFC 3646)", 24: "Search list (RFC 3646)",
	25: "IA for prefixes", 26: "IA Prefix", 39: "Client FQDN (RFC 4704)"}

func (r *reader) dhcpv6() {
	n := r.end - r.at
	l, b, _ := r.header("DHCPv6", "RFC 8415 §8", max(n, 4))
	l.coded(b, 0, 1, "Message Type", messages6)
	l.octetsOf(b, 1, 3, "Transaction ID")
	for at := 4; at < n; {
		if at+4 > n || at+4+numberOf(b[at+2:at+4]) > n {
			l.wrong("an option runs past the message")
			return
		}
		code, size := numberOf(b[at:at+2]), numberOf(b[at+2:at+4])
		name, data := options6[code], b[at+4:at+4+size]
		if name == "" {
			name = fmt.Sprintf("Option %d", code)
		}
		value := octetWords(data)
		if code == 23 && size%16 == 0 {
			var list []netip.Addr
			for ; len(data) > 0; data = data[16:] {
				list = append(list, addressOf(data[:16]))
			}
			value = wording.List(list)
		}
		l.put(at, 4+size, name, value)
		at += 4 + size
	}
}
