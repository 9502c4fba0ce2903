package subnet

import "net/netip"

// WellKnownTranslation is the prefix under which a translator that names no prefix of its own gives IPv4 addresses (RFC 6052 §2.1).
var WellKnownTranslation = netip.MustParsePrefix("64:ff9b::/96")

// translationLengths are those that a prefix of a translator may have (RFC 6052 §2.2).
var translationLengths = []int{32, 40, 48, 56, 64, 96}

// Embedded is the IPv4 address for which an IPv6 address of a translator's prefix stands (RFC 6052 §2.2); false if it stands for none.
func Embedded(prefix netip.Prefix, a netip.Addr) (netip.Addr, bool) {
	a = a.WithZone("")
	if !prefix.IsValid() || !prefix.Contains(a) {
		return netip.Addr{}, false
	}
	raw := a.As16()
	var four [4]byte
	at := prefix.Bits() / 8
	for i := range four {
		if at == 8 { // bits 64 to 71 are passed over
			at++
		}
		if at >= len(raw) {
			return netip.Addr{}, false
		}
		four[i] = raw[at]
		at++
	}
	return netip.AddrFrom4(four), true
}

// The addresses of the name ipv4only.arpa: what a name server makes of them shows the prefix of its translator (RFC 7050 §2.2).
var known4 = [...]netip.Addr{netip.AddrFrom4([4]byte{192, 0, 0, 170}), netip.AddrFrom4([4]byte{192, 0, 0, 171})}

// TranslationPrefix is the prefix of the translator for which an IPv6 address of the name ipv4only.arpa was made (RFC 7050 §3).
func TranslationPrefix(a netip.Addr) (netip.Prefix, bool) {
	if !a.Is6() || a.Is4In6() {
		return netip.Prefix{}, false
	}
	for _, bits := range translationLengths {
		prefix, err := a.WithZone("").Prefix(bits)
		if four, ok := Embedded(prefix, a); err == nil && ok && (four == known4[0] || four == known4[1]) {
			return prefix, true
		}
	}
	return netip.Prefix{}, false
}

// PrefixLengthCode is the length that a router's option for the prefix of a translator tells by a number (RFC 8781 §4); false if it means
// none.
func PrefixLengthCode(code uint8) (bits int, ok bool) {
	if int(code) >= len(translationLengths) {
		return 0, false
	}
	return translationLengths[len(translationLengths)-1-int(code)], true
}
