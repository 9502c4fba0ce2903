package redact

import (
	"net/netip"
	"slices"
	"strconv"
)

// prefixOf reads the parts of an address in the order of its bits, whole or of a network, each of 8 bits (base 10) or of 4 (base 16).
func prefixOf(parts []string, most, base int) (netip.Prefix, bool) {
	if len(parts) > most {
		return netip.Prefix{}, false
	}
	raw, each := make([]byte, most), 8
	if base == 16 {
		raw, each = make([]byte, most/2), 4
	}
	for i, part := range parts {
		n, err := strconv.ParseUint(part, base, each)
		switch {
		case err != nil:
			return netip.Prefix{}, false
		case each == 8:
			raw[i] = byte(n)
		default:
			raw[i/2] |= byte(n) << (4 - i%2*4)
		}
	}
	a, ok := netip.AddrFromSlice(raw)
	return netip.PrefixFrom(a, len(parts)*each), ok
}

// partsOf is the way back, of a whole address.
func partsOf(a netip.Addr, base int) (out []string) {
	for b := range slices.Values(a.AsSlice()) {
		if base == 10 {
			out = append(out, strconv.Itoa(int(b)))
			continue
		}
		out = append(out, strconv.FormatUint(uint64(b>>4), 16), strconv.FormatUint(uint64(b&15), 16))
	}
	return out
}
