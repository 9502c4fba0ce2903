// Package frame opens a frame layer by layer: each field by the name that the standard gives it, its value in words, and the octets that
// it stands in. Any octets are allowed: what is cut short or makes no sense is said of its layer, and what was read before it stays.
package frame

import (
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"net/netip"
	"strings"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/wiretext"
)

// Field is one field of a layer.
type Field struct {
	Name   string
	Value  string
	At     int // the first of its octets in the frame
	Octets int // how many they are; a field of some bits names the octets that hold it
}

// Layer is one layer of a frame.
type Layer struct {
	Name   string
	Source string // the standard and its section
	At     int
	Octets int
	Quoted bool // of a packet that an error quotes
	Fields []Field
	Wrong  string // what does not hold; "" while all does
}

// Link is what a frame begins with.
type Link int

// The links that can be opened.
const (
	Ethernet Link = iota
	RawIP         // no link layer: IPv4 or IPv6, as its first four bits say
)

// mostLayers, mostFields bound what a hostile frame makes of itself.
const (
	mostLayers = 32
	mostFields = 256
)

// Open opens a frame.
func Open(link Link, octets []byte) []Layer {
	r := &reader{all: octets, end: len(octets)}
	if link == RawIP {
		r.packet()
	} else {
		r.ethernet()
	}
	return r.layers
}

// reader goes through a frame from its first octet to its last.
type reader struct {
	all     []byte
	at, end int // what is still to be opened; what lies behind end is padding, or belongs to nothing
	layers  []Layer
	quoted  bool
	// of the packet that is being opened, for the checksums of what it carries
	from, to netip.Addr
}

func (r *reader) rest() []byte { return r.all[r.at:r.end] }

// header begins a layer whose header has that many octets, and gives them, with octets of zero in place of those that are missing; ok is
// false then, and there is nothing behind it.
func (r *reader) header(name, source string, octets int) (l *Layer, b []byte, ok bool) {
	have := min(octets, r.end-r.at)
	r.layers = append(r.layers, Layer{Name: name, Source: source, At: r.at, Octets: have, Quoted: r.quoted})
	l = &r.layers[len(r.layers)-1]
	b = r.all[r.at : r.at+have]
	if ok = have == octets; !ok {
		if !r.quoted { // an error quotes the beginning alone (RFC 792)
			l.Wrong = fmt.Sprintf("cut short: %d octets of %d", have, octets)
		}
		b = append(append(make([]byte, 0, octets), b...), make([]byte, octets-have)...)
	}
	r.at += have
	return l, b, ok && len(r.layers) < mostLayers
}

// put adds a field at an offset of the layer's own. What lies behind its end was not there.
func (l *Layer) put(at, octets int, name, value string) {
	if at+octets <= l.Octets && len(l.Fields) < mostFields {
		l.Fields = append(l.Fields, Field{Name: name, Value: value, At: l.At + at, Octets: octets})
	}
}

func (l *Layer) number(b []byte, at, octets int, name, unit string) {
	l.put(at, octets, name, fmt.Sprint(numberOf(b[at:at+octets]))+unit)
}

func (l *Layer) coded(b []byte, at, octets int, name string, words map[int]string) {
	l.put(at, octets, name, coded(numberOf(b[at:at+octets]), words))
}

func (l *Layer) octetsOf(b []byte, at, octets int, name string) {
	l.put(at, octets, name, octetWords(b[at:at+octets]))
}

func (l *Layer) address(b []byte, at, octets int, name string) {
	l.put(at, octets, name, addressOf(b[at:at+octets]).String())
}

func (l *Layer) hardware(b []byte, at int, name string) {
	h, _ := endpoint.HardwareFrom(b[at : at+6])
	words := h.String()
	switch {
	case words == "ff:ff:ff:ff:ff:ff":
		words += ", everybody on the segment"
	case b[at]&1 != 0:
		words += ", a group"
	}
	l.put(at, 6, name, words)
}

// wrong says what does not hold; the first word stands.
func (l *Layer) wrong(format string, args ...any) {
	if l.Wrong == "" {
		l.Wrong = fmt.Sprintf(format, args...)
	}
}

func numberOf(b []byte) (n int) {
	for _, c := range b {
		n = n<<8 | int(c)
	}
	return n
}

// coded is a number, and what it stands for where that is known.
func coded(n int, words map[int]string) string {
	if w, ok := words[n]; ok {
		return fmt.Sprintf("%d, %s", n, w)
	}
	return fmt.Sprint(n)
}

func addressOf(b []byte) netip.Addr {
	a, _ := netip.AddrFromSlice(b)
	return a
}

// mostOctets are written of one field.
const mostOctets = 32

func octetWords(b []byte) string {
	if len(b) > mostOctets {
		return hex.EncodeToString(b[:mostOctets]) + fmt.Sprintf("… %d octets in all", len(b))
	}
	return hex.EncodeToString(b)
}

// flags are the names of the bits that are set, the highest first.
func flags(n int, names ...string) string {
	var set []string
	for i, name := range names {
		if name != "" && n&(1<<(len(names)-1-i)) != 0 {
			set = append(set, name)
		}
	}
	if len(set) == 0 {
		return "none"
	}
	return strings.Join(set, ", ")
}

// payload is what is left, and is not opened any further.
func (r *reader) payload() {
	n := r.end - r.at
	if n <= 0 || len(r.layers) >= mostLayers {
		return
	}
	l, b, _ := r.header("payload", "", n)
	text := 0
	for _, c := range b {
		if c >= 0x20 && c < 0x7f || c == '\n' || c == '\r' || c == '\t' {
			text++
		}
	}
	if text == n { // a protocol of lines: its first one says most
		line, _, _ := strings.Cut(string(b), "\n")
		l.put(0, n, "Text", wiretext.Clean(strings.TrimRight(line, "\r")))
		return
	}
	l.octetsOf(b, 0, n, "Octets")
}

// trailer is what lies behind the end that a length has given: the padding of a short frame.
func (r *reader) trailer() {
	if n := len(r.all) - r.end; n > 0 && len(r.layers) < mostLayers {
		r.at, r.end = r.end, len(r.all)
		l, b, _ := r.header("padding", "IEEE 802.3 §3.2.8", n)
		l.octetsOf(b, 0, n, "Pad")
	}
}

// sum is the Internet checksum (RFC 1071).
func sum(parts ...[]byte) uint16 {
	var s uint32
	for _, b := range parts {
		for ; len(b) > 1; b = b[2:] {
			s += uint32(binary.BigEndian.Uint16(b))
		}
		if len(b) == 1 {
			s += uint32(b[0]) << 8
		}
	}
	for s > 0xffff {
		s = s>>16 + s&0xffff
	}
	return ^uint16(s)
}

// checksum writes a checksum and whether it holds. That of a frame that this machine sends may be computed by the port, after us.
func checksum(b []byte, at int, whole bool, over ...[]byte) string {
	words := hex.EncodeToString(b[at : at+2])
	switch {
	case !whole:
		return words
	case sum(over...) == 0:
		return words + ", holds"
	}
	return words + ", does not hold: damaged, or left to the port to compute"
}
