package dhcp

import (
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"net/netip"
	"strconv"
	"strings"

	"passepartout/internal/core/subnet"
)

// Described is an option in words.
type Described struct {
	Code  uint8  `json:"code"`
	Name  string `json:"name"`
	Value string `json:"value"`
}

// Described writes all options of the message in words.
func (m *Message) Described() []Described {
	out := make([]Described, 0, len(m.Options))
	for _, o := range m.Options {
		d := Describe(o)
		if o.Code == OptSearch && len(m.Search) > 0 {
			d.Value = strings.Join(m.Search, ", ")
		}
		out = append(out, d)
	}
	return out
}

// Describe writes one option in words, with units. Data that does not fit the option's form is shown as octets.
func Describe(o Option) Described {
	value, ok := worded(registered[o.Code].as, o.Data)
	if !ok {
		value = octets(o.Data)
	}
	return Described{o.Code, Name(o.Code), value}
}

// longestValue bounds what a value may fill of a line or a file.
const longestValue = 512

func octets(b []byte) string {
	if len(b) == 0 {
		return "(empty)"
	}
	if len(b) > longestValue/2 {
		return hex.EncodeToString(b[:longestValue/2]) + fmt.Sprintf("… (%d octets)", len(b))
	}
	return hex.EncodeToString(b)
}

func worded(as shape, b []byte) (string, bool) {
	switch as {
	case asAddresses:
		if len(b) == 0 || len(b)%4 != 0 {
			return "", false
		}
		var parts []string
		for ; len(b) >= 4; b = b[4:] {
			parts = append(parts, ipv4(b).String())
		}
		return strings.Join(parts, ", "), true
	case asAddress:
		return fixed(b, 4, func() string { return ipv4(b).String() })
	case asMask:
		return fixed(b, 4, func() string {
			if n, ok := subnet.LengthOf(ipv4(b)); ok {
				return fmt.Sprintf("%v (/%d)", ipv4(b), n)
			}
			return fmt.Sprintf("%v (no mask: its ones are not together)", ipv4(b))
		})
	case asText:
		return text(b), len(b) > 0
	case asSeconds:
		return fixed(b, 4, func() string {
			if v := binary.BigEndian.Uint32(b); v != 0xffffffff {
				return fmt.Sprintf("%d s", v)
			}
			return "without end"
		})
	case asSigned:
		return fixed(b, 4, func() string { return fmt.Sprintf("%d s", int32(binary.BigEndian.Uint32(b))) })
	case asNumber:
		return number(b)
	case asYesNo:
		return fixed(b, 1, func() string { return map[bool]string{false: "no", true: "yes"}[b[0] != 0] })
	case asPairs:
		if len(b) == 0 || len(b)%8 != 0 {
			return "", false
		}
		var parts []string
		for ; len(b) >= 8; b = b[8:] {
			parts = append(parts, fmt.Sprintf("%v by %v", ipv4(b), ipv4(b[4:])))
		}
		return strings.Join(parts, ", "), true
	case asClassless:
		routes, ok := classlessRoutes(b)
		if !ok {
			return "", false
		}
		var parts []string
		for _, r := range routes {
			if r.Via.IsValid() {
				parts = append(parts, fmt.Sprintf("%v by %v", r.To, r.Via))
			} else {
				parts = append(parts, fmt.Sprintf("%v on the link", r.To))
			}
		}
		return strings.Join(parts, ", "), true
	case asCodes:
		var parts []string
		for _, c := range b {
			parts = append(parts, strconv.Itoa(int(c)))
		}
		return strings.Join(parts, " "), len(b) > 0
	case asType:
		return fixed(b, 1, func() string { return Type(b[0]).String() })
	case asClientID:
		return clientID(b)
	case asFQDN:
		return fqdn(b), len(b) > 3
	case asRelay:
		return subOptions(b)
	case asNumbers16:
		if len(b) == 0 || len(b)%2 != 0 {
			return "", false
		}
		var parts []string
		for ; len(b) >= 2; b = b[2:] {
			parts = append(parts, strconv.Itoa(int(binary.BigEndian.Uint16(b))))
		}
		return strings.Join(parts, " "), true
	case asNothing:
		return "yes", len(b) == 0
	case asOverload:
		words := []string{"", "file", "sname", "file and sname"}
		return fixed(b, 1, func() string { return "further options in " + words[b[0]&3] })
	case asVendors:
		return vendors(b)
	case asNode:
		names := map[byte]string{1: "broadcast", 2: "point-to-point", 4: "mixed", 8: "hybrid"}
		if len(b) == 1 && names[b[0]] != "" {
			return names[b[0]], true
		}
	}
	return "", false
}

func fixed(b []byte, length int, write func() string) (string, bool) {
	if len(b) != length {
		return "", false
	}
	return write(), true
}

// ipv4 reads the first four octets, 0.0.0.0 included.
func ipv4(b []byte) netip.Addr { return netip.AddrFrom4([4]byte(b[:4])) }

func number(b []byte) (string, bool) {
	switch len(b) {
	case 1:
		return strconv.Itoa(int(b[0])), true
	case 2:
		return strconv.Itoa(int(binary.BigEndian.Uint16(b))), true
	case 4:
		return strconv.FormatUint(uint64(binary.BigEndian.Uint32(b)), 10), true
	}
	return "", false
}

// classlessRoutes reads option 121 (RFC 3442): a width, the significant octets of the destination, the router. False if the data ends
// within a route; what was whole before is given all the same.
func classlessRoutes(b []byte) (out []Route, whole bool) {
	whole = len(b) > 0
	for len(b) > 0 {
		width := int(b[0])
		n := (width + 7) / 8
		if width > 32 || len(b) < 1+n+4 {
			return out, false
		}
		var to [4]byte
		copy(to[:], b[1:1+n])
		out = append(out, Route{To: netip.PrefixFrom(netip.AddrFrom4(to), width), Via: addressFrom(b[1+n : 5+n])})
		b = b[5+n:]
	}
	return out, whole
}

// clientID writes option 61: a hardware address (RFC 2132 §9.14), a DUID with its association (RFC 4361 §6.1), or octets.
func clientID(b []byte) (string, bool) {
	switch {
	case len(b) == 7 && b[0] == 1:
		return HardwareFrom(b[1:]).String(), true
	case len(b) > 5 && b[0] == 0xff:
		return fmt.Sprintf("DUID %s, association %s", octets(b[5:]), octets(b[1:5])), true
	case len(b) > 1 && b[0] == 0 && printable(b[1:]):
		return text(b[1:]), true
	}
	return octets(b), len(b) > 0
}

func printable(b []byte) bool {
	for _, c := range b {
		if c < 0x20 || c > 0x7e {
			return false
		}
	}
	return true
}

// fqdn reads the name in option 81 (RFC 4702 §2.1): flags, two octets of history, then text or, with the E flag, labels.
func fqdn(b []byte) string {
	if len(b) < 3 {
		return ""
	}
	flags, name := b[0], b[3:]
	if flags&4 == 0 {
		return text(name)
	}
	var labels []string
	for len(name) > 0 && name[0] != 0 && int(name[0]) < len(name) && name[0] < 64 {
		labels = append(labels, string(name[1:1+name[0]]))
		name = name[1+name[0]:]
	}
	return text([]byte(strings.Join(labels, ".")))
}

// relayNames are sub-options of option 82 (RFC 3046, RFC 3527, RFC 5010, RFC 5107).
var relayNames = map[byte]string{1: "circuit", 2: "remote", 5: "link selection", 6: "subscriber", 10: "flags",
	11: "server identifier override"}

func subOptions(b []byte) (string, bool) {
	var parts []string
	for len(b) >= 2 {
		code, n := b[0], int(b[1])
		if len(b) < 2+n {
			return "", false
		}
		v := b[2 : 2+n]
		name := relayNames[code]
		if name == "" {
			name = fmt.Sprintf("sub-option %d", code)
		}
		value := octets(v)
		switch {
		case (code == 5 || code == 11) && n == 4:
			value = ipv4(v).String()
		case n > 0 && printable(v):
			value = text(v)
		}
		parts = append(parts, name+" "+value)
		b = b[2+n:]
	}
	return strings.Join(parts, ", "), len(b) == 0 && len(parts) > 0
}

// vendors writes options 124 and 125 (RFC 3925): an enterprise number and its data, again and again.
func vendors(b []byte) (string, bool) {
	var parts []string
	for len(b) >= 5 {
		n := int(b[4])
		if len(b) < 5+n {
			return "", false
		}
		parts = append(parts, fmt.Sprintf("enterprise %d: %s", binary.BigEndian.Uint32(b), octets(b[5:5+n])))
		b = b[5+n:]
	}
	return strings.Join(parts, ", "), len(b) == 0 && len(parts) > 0
}
