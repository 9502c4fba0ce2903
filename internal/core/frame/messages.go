package frame

import (
	"fmt"
	"strings"

	"passepartout/internal/core/dhcp"
	"passepartout/internal/core/wiretext"
)

// dhcpHeader is what stands before the options (RFC 2131 §2).
const dhcpHeader = 240

func (r *reader) dhcp() {
	n := r.end - r.at
	l, b, ok := r.header("DHCP", "RFC 2131 §2", dhcpHeader)
	l.coded(b, 0, 1, "op", map[int]string{1: "request", 2: "reply"})
	l.coded(b, 1, 1, "htype", map[int]string{1: "Ethernet"})
	l.number(b, 2, 1, "hlen", " octets")
	l.number(b, 3, 1, "hops", "")
	l.octetsOf(b, 4, 4, "xid")
	l.number(b, 8, 2, "secs", " s")
	l.put(10, 2, "flags", flags(int(b[10]>>7), "broadcast"))
	for i, name := range []string{"ciaddr", "yiaddr", "siaddr", "giaddr"} {
		l.address(b, 12+4*i, 4, name)
	}
	l.put(28, 16, "chaddr", dhcp.HardwareFrom(b[28:28+min(int(b[2]), 16)]).String())
	l.put(44, 64, "sname", wiretext.Clean(strings.TrimRight(string(b[44:108]), "\x00")))
	l.put(108, 128, "file", wiretext.Clean(strings.TrimRight(string(b[108:236]), "\x00")))
	cookie := "63825363, options follow"
	if octetWords(b[236:240]) != "63825363" {
		cookie = octetWords(b[236:240])
		l.wrong("the magic cookie is missing: no options follow")
	}
	l.put(236, 4, "magic cookie", cookie)
	if !ok || l.Wrong != "" {
		return
	}
	l, b, _ = r.header("DHCP options", "RFC 2132", n-dhcpHeader)
	for at := 0; at < l.Octets; {
		switch code := b[at]; {
		case code == 0:
			from := at
			for at < l.Octets && b[at] == 0 {
				at++
			}
			l.put(from, at-from, "0 pad", "")
		case code == 255:
			l.put(at, 1, "255 end", "")
			if rest := l.Octets - at - 1; rest > 0 {
				l.put(at+1, rest, "behind the end", octetWords(b[at+1:]))
			}
			return
		case at+1 >= l.Octets || at+2+int(b[at+1]) > l.Octets:
			l.wrong("option %d runs past the message", code)
			return
		default:
			size := 2 + int(b[at+1])
			d := dhcp.Describe(dhcp.Option{Code: code, Data: b[at+2 : at+size]})
			l.put(at, size, fmt.Sprintf("%d %s", code, d.Name), d.Value)
			at += size
		}
	}
}

// lldpTypes are the types of IEEE 802.1AB §8.5.
var lldpTypes = map[int]string{0: "End Of LLDPDU", 1: "Chassis ID", 2: "Port ID", 3: "Time To Live", 4: "Port Description",
	5: "System Name", 6: "System Description", 7: "System Capabilities", 8: "Management Address", 127: "of an organisation"}

func (r *reader) lldp() {
	n := r.end - r.at
	l, b, _ := r.header("LLDP", "IEEE 802.1AB §8", n)
	for at := 0; at < n; {
		if at+2 > n || at+2+numberOf(b[at:at+2])&0x1ff > n {
			l.wrong("a value runs past the frame")
			return
		}
		kind, size := int(b[at]>>1), numberOf(b[at:at+2])&0x1ff
		data := b[at+2 : at+2+size]
		name, value := lldpTypes[kind], octetWords(data)
		if name == "" {
			name = fmt.Sprintf("Type %d", kind)
		}
		switch {
		case kind == 0:
			l.put(at, 2, name, "")
			r.end = l.At + at + 2
			l.Octets = at + 2
			return
		case kind == 3 && size == 2:
			value = fmt.Sprintf("%d s", numberOf(data))
		case (kind == 1 || kind == 2) && size > 1:
			value = identity(kind, data)
		case kind >= 4 && kind <= 6:
			value = wiretext.Clean(string(data))
		case kind == 8 && size > 2 && size >= 1+int(data[0]) && data[0] > 1:
			if a := addressOf(data[2 : 1+int(data[0])]); a.IsValid() {
				value = a.String()
			}
		case kind == 127 && size == 6 && octetWords(data[:4]) == "0080c201": // IEEE 802.1Q annex D.2.1
			name, value = "Port VLAN ID", fmt.Sprint(numberOf(data[4:]))
		}
		l.put(at, 2+size, name, value)
		at += 2 + size
	}
}

// identity is a chassis or port identity: a hardware or network address, or text (IEEE 802.1AB §8.5.2, §8.5.3).
func identity(kind int, b []byte) string {
	hardware, network := map[int]byte{1: 4, 2: 3}[kind], map[int]byte{1: 5, 2: 4}[kind]
	switch {
	case b[0] == hardware && len(b) == 7:
		return dhcp.HardwareFrom(b[1:]).String()
	case b[0] == network && len(b) > 2 && addressOf(b[2:]).IsValid():
		return addressOf(b[2:]).String()
	}
	return wiretext.Clean(string(b[1:]))
}
