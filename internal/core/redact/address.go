package redact

import (
	"net/netip"
	"slices"

	"passepartout/internal/core/subnet"
)

// What lies in a network of the first sort, which is the same everywhere and tells nothing of a place, stays as it is. What lies in one of
// the second, which says what sort of address it is, has a stand-in within it.
var (
	kept = prefixes("0.0.0.0/8", "127.0.0.0/8", "192.0.0.0/24", "224.0.0.0/3", "::/96", "ff00::/8",
		"192.0.2.1/32") // what the program itself asks for, where nobody may answer (RFC 5737)
	apart = prefixes("10.0.0.0/8", "100.64.0.0/10", "169.254.0.0/16", "172.16.0.0/12", "192.168.0.0/16", // RFC 1918, 3927, 6598
		"64:ff9b::/96", "64:ff9b:1::/48", "::ffff:0:0/96", "2001::/32", "2002::/16", "fc00::/8", "fd00::/8", "fe80::/64",
		"fe80::/10", "2000::/3") // RFC 4193, 4291, 4380, 6052, 8215
)

func prefixes(list ...string) (out []netip.Prefix) {
	for _, p := range list {
		out = append(out, netip.MustParsePrefix(p))
	}
	return out
}

// endsKept is from which length on the first and the last address of a known network stay the first and the last: a host must not become
// a broadcast address. In larger ones a key is chosen for which that does not happen.
const endsKept = 24

// tree gives stand-ins to addresses so that two of them share as many leading bits as the originals do: each bit is turned or not by the
// key and the bits before it.
type tree struct {
	key   func(what string, of []byte) byte
	known []netip.Prefix        // networks that stand in the case
	large []netip.Prefix        // those of them whose ends are looked after one by one
	still map[netip.Prefix]bool // nodes at which nothing is turned
	done  map[netip.Addr]netip.Addr
	// translated are networks of IPv6 addresses that hold an IPv4 one.
	translated map[netip.Prefix]bool
}

func newTree(key func(string, []byte) byte, known []netip.Prefix, translated map[netip.Prefix]bool) *tree {
	t := &tree{key: key, known: known, translated: translated, still: map[netip.Prefix]bool{}, done: map[netip.Addr]netip.Addr{}}
	for _, p := range slices.Concat(kept, apart) {
		t.keep(p, 0)
	}
	for _, p := range known {
		switch hosts := p.Addr().BitLen() - p.Bits(); {
		case hosts < 2 || p.Bits() == 0:
		case hosts <= 32-endsKept:
			for _, a := range []netip.Addr{p.Masked().Addr(), subnet.Last(p)} {
				t.keep(netip.PrefixFrom(a, a.BitLen()), p.Bits())
			}
		default:
			t.large = append(t.large, p)
		}
	}
	return t
}

// keep has a network stay where it is in the one of that length around it: nothing between the two is turned.
func (t *tree) keep(p netip.Prefix, from int) {
	for bits := from; bits < p.Bits(); bits++ {
		t.still[netip.PrefixFrom(p.Addr(), bits).Masked()] = true
	}
}

// addr is the stand-in of an address.
func (t *tree) addr(a netip.Addr) netip.Addr {
	if a.Zone() != "" {
		return t.addr(a.WithZone("")).WithZone(a.Zone())
	}
	if within(kept, a) {
		return a
	}
	if out, ok := t.done[a]; ok {
		return out
	}
	out := t.turned(a)
	for _, p := range t.large {
		if p.Contains(a) {
			switch at := netip.PrefixFrom(out, p.Bits()); a {
			case p.Masked().Addr():
				out = at.Masked().Addr()
			case subnet.Last(p):
				out = subnet.Last(at)
			}
		}
	}
	t.done[a] = out
	return out
}

func (t *tree) turned(a netip.Addr) netip.Addr {
	if p := netip.PrefixFrom(a, 96).Masked(); a.Is4In6() || t.translated[p] {
		return t.holding(p.Addr(), a)
	}
	return t.bits(a)
}

// bits turns an address bit by bit.
func (t *tree) bits(a netip.Addr) netip.Addr {
	raw := a.AsSlice()
	out := slices.Clone(raw)
	for bit := range a.BitLen() {
		before := make([]byte, len(raw)+1) // the bits before this one, and how many there are
		copy(before, raw[:bit/8])
		if bit%8 > 0 {
			before[bit/8] = raw[bit/8] &^ (0xff >> (bit % 8))
		}
		before[len(raw)] = byte(bit)
		above, _ := netip.AddrFromSlice(before[:len(raw)])
		if !t.still[netip.PrefixFrom(above, bit)] && t.key("address", before)&1 == 1 {
			out[bit/8] ^= 0x80 >> (bit % 8)
		}
	}
	turned, _ := netip.AddrFromSlice(out)
	return turned
}

// holding is the stand-in of an IPv6 address that holds an IPv4 one, in that network (RFC 6052 §2.2, RFC 4291 §2.5.5.2).
func (t *tree) holding(network, a netip.Addr) netip.Addr {
	if a == network {
		return t.bits(a)
	}
	out, raw := t.addr(network).As16(), a.As16()
	four := t.addr(netip.AddrFrom4([4]byte(raw[12:]))).As4()
	copy(out[12:], four[:])
	return netip.AddrFrom16(out)
}

// prefix is the stand-in of a network, or of an address with the length of its network.
func (t *tree) prefix(p netip.Prefix) netip.Prefix {
	out := netip.PrefixFrom(t.addr(p.Addr()), p.Bits())
	if p == p.Masked() {
		return out.Masked()
	}
	return out
}

func within(list []netip.Prefix, a netip.Addr) bool {
	return slices.ContainsFunc(list, func(p netip.Prefix) bool { return p.Contains(a) })
}
