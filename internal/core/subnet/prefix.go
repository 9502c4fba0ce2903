// Package subnet does prefix arithmetic: which addresses a prefix holds, which of them a host may use, where one lies in it.
package subnet

import (
	"encoding/binary"
	"fmt"
	"iter"
	"math"
	"math/bits"
	"net/netip"
)

// Last returns the highest address of p: for IPv4 prefixes up to /30 the directed broadcast address.
// The zero Prefix gives the zero Addr.
func Last(p netip.Prefix) netip.Addr {
	if !p.IsValid() {
		return netip.Addr{}
	}
	raw := p.Masked().Addr().AsSlice()
	for bit := p.Bits(); bit < len(raw)*8; bit++ {
		raw[bit/8] |= 0x80 >> (bit % 8)
	}
	last, _ := netip.AddrFromSlice(raw)
	return last
}

// Usable reports whether a host may hold a as its own address on p: inside it, and neither the network's own address nor
// the directed broadcast, which exist in IPv4 prefixes up to /30 only (RFC 3021 for /31).
func Usable(p netip.Prefix, a netip.Addr) bool {
	a = a.WithZone("")
	if !p.Masked().Contains(a) {
		return false
	}
	if a.Is6() || p.Bits() >= 31 {
		return true
	}
	return a != p.Masked().Addr() && a != Last(p)
}

// Size returns how many addresses a host may use on p. Above 2^53 the count is rounded, as a float64 must be.
func Size(p netip.Prefix) float64 {
	if !p.IsValid() {
		return 0
	}
	n := math.Pow(2, float64(p.Addr().BitLen()-p.Bits()))
	if p.Addr().Is4() && p.Bits() < 31 {
		n -= 2
	}
	return n
}

// LengthOf is the prefix length of an IPv4 mask; false if its ones are not together at its beginning.
func LengthOf(mask netip.Addr) (int, bool) {
	if !mask.Is4() {
		return 0, false
	}
	b := mask.As4()
	v := binary.BigEndian.Uint32(b[:])
	n := bits.LeadingZeros32(^v)
	return n, v<<n == 0
}

// Mask writes an IPv4 prefix length as a dotted mask; for IPv6, where there is no such form, as "/64".
func Mask(p netip.Prefix) string {
	if !p.Addr().Is4() {
		return fmt.Sprintf("/%d", p.Bits())
	}
	var raw [4]byte
	binary.BigEndian.PutUint32(raw[:], ^uint32(0)<<(32-p.Bits()))
	return netip.AddrFrom4(raw).String()
}

// Around yields usable addresses of p, the nearest to the centre first, at most limit of them. It is the order in which a
// segment is asked: neighbours tend to be numbered close together.
func Around(p netip.Prefix, centre netip.Addr, limit int) iter.Seq[netip.Addr] {
	return func(yield func(netip.Addr) bool) {
		p = p.Masked()
		down, up := centre.Prev(), centre.Next()
		for n := 0; n < limit && (p.Contains(down) || p.Contains(up)); {
			for _, a := range []netip.Addr{down, up} {
				if n < limit && Usable(p, a) {
					n++
					if !yield(a) {
						return
					}
				}
			}
			if p.Contains(down) {
				down = down.Prev()
			}
			if p.Contains(up) {
				up = up.Next()
			}
		}
	}
}

// Position tells where a lies in p, from 0 at its first address to 1 at its last. It is false for an address outside.
func Position(p netip.Prefix, a netip.Addr) (float64, bool) {
	a = a.WithZone("")
	if !p.Masked().Contains(a) {
		return 0, false
	}
	first, last := number(p.Masked().Addr()), number(Last(p))
	if last == first {
		return 0, true
	}
	return (number(a) - first) / (last - first), true
}

// number is the address as a number. For IPv6 the low 64 bits decide, which is exact enough to place a mark.
func number(a netip.Addr) float64 {
	raw := a.AsSlice()
	if len(raw) == 16 {
		raw = raw[8:]
	}
	var n float64
	for _, b := range raw {
		n = n*256 + float64(b)
	}
	return n
}

// Slip is the place where two IPv4 addresses differ in a single octet: the mistake that a tired eye passes over.
type Slip struct {
	Octet    int // 1 to 4, from the left
	From, To byte
}

// OneOctetApart reports whether a and b differ in exactly one octet, and in which.
func OneOctetApart(a, b netip.Addr) (Slip, bool) {
	if !a.Is4() || !b.Is4() {
		return Slip{}, false
	}
	x, y := a.As4(), b.As4()
	var slip Slip
	count := 0
	for i := range x {
		if x[i] != y[i] {
			count++
			slip = Slip{Octet: i + 1, From: x[i], To: y[i]}
		}
	}
	return slip, count == 1
}

// NetworkSlip reports whether the network part of a, by p's length, differs from p in exactly one octet, and in which.
func NetworkSlip(a netip.Addr, p netip.Prefix) (Slip, bool) {
	network, err := a.Prefix(p.Bits())
	if err != nil {
		return Slip{}, false
	}
	return OneOctetApart(network.Addr(), p.Masked().Addr())
}
