// Package dhcp says what DHCPv4 messages mean (RFC 2131, RFC 2132): one message, what a server gives, the exchange of which messages are
// part, and what is irregular in it. It decodes no packets and knows no clock.
package dhcp

import (
	"encoding/binary"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"passepartout/internal/core/wiretext"
)

// The ports (RFC 2131 §4.1).
const (
	ServerPort = 67
	ClientPort = 68
)

// Message is one DHCP message. The zero address stands for 0.0.0.0, which means "none" in each of these fields.
type Message struct {
	Reply     bool // from a server
	XID       uint32
	Type      Type
	Secs      uint16 // seconds since the client began, as it says itself: many say nothing useful
	Broadcast bool   // the client asks for broadcast answers
	Hops      uint8
	Client    Hardware   // chaddr
	Own       netip.Addr // ciaddr: the address that the client uses already
	Your      netip.Addr // yiaddr: the address that it is given
	Next      netip.Addr // siaddr: where to load a system from
	Relay     netip.Addr // giaddr
	Options   []Option   // each code once, its parts joined (RFC 3396)
	Search    []string   // option 119, decoded (RFC 3397)
	Cut       string     // why the message could not be read to its end; "" if it was
}

// Option is one option as it came.
type Option struct {
	Code uint8
	Data []byte
}

// Hardware is a client's link-layer address of up to sixteen octets. It is comparable; the zero value is none.
type Hardware struct {
	n uint8
	b [16]byte
}

// HardwareFrom takes an address of at most sixteen octets; longer ones are cut.
func HardwareFrom(b []byte) (h Hardware) {
	h.n = uint8(copy(h.b[:], b))
	return h
}

// ParseHardware reads octets in hexadecimal, parted by colons or hyphens; false for anything else.
func ParseHardware(s string) (Hardware, bool) {
	parts := strings.FieldsFunc(s, func(r rune) bool { return r == ':' || r == '-' })
	var b []byte
	for _, p := range parts {
		var v uint8
		if len(p) > 2 {
			return Hardware{}, false
		}
		if _, err := fmt.Sscanf(p, "%x", &v); err != nil {
			return Hardware{}, false
		}
		b = append(b, v)
	}
	return HardwareFrom(b), len(b) >= 1 && len(b) <= 16
}

// Bytes are the octets of the address.
func (h Hardware) Bytes() []byte { return slices.Clone(h.b[:h.n]) }

func (h Hardware) String() string {
	const digits = "0123456789abcdef"
	if h.n == 0 {
		return ""
	}
	out := make([]byte, 0, 3*h.n)
	for _, b := range h.b[:h.n] {
		out = append(out, digits[b>>4], digits[b&15], ':')
	}
	return string(out[:len(out)-1])
}

// Option gives the data of an option, and whether it is there at all: one of no octets is.
func (m *Message) Option(code uint8) ([]byte, bool) {
	for i := range m.Options {
		if m.Options[i].Code == code {
			return m.Options[i].Data, true
		}
	}
	return nil, false
}

// Server is the server identifier (RFC 2132 §9.7), zero if there is none.
func (m *Message) Server() netip.Addr { return m.address(OptServer) }

// Requested is the address that the client asks for (RFC 2132 §9.1), zero if none.
func (m *Message) Requested() netip.Addr { return m.address(OptRequested) }

// Text is the server's reason for a refusal, or the client's for a decline (RFC 2132 §9.9).
func (m *Message) Text() string { return m.text(OptMessage) }

// Hostname is the client's name for itself: option 12, else the one of option 81 (RFC 4702).
func (m *Message) Hostname() string {
	if name := m.text(OptHostname); name != "" {
		return name
	}
	b, _ := m.Option(OptFQDN)
	return fqdn(b)
}

func (m *Message) address(code uint8) netip.Addr {
	if b, ok := m.Option(code); ok && len(b) == 4 {
		return addressFrom(b)
	}
	return netip.Addr{}
}

func (m *Message) addresses(code uint8) []netip.Addr {
	b, _ := m.Option(code)
	return addressList(b)
}

func (m *Message) text(code uint8) string {
	b, _ := m.Option(code)
	return text(b)
}

func (m *Message) seconds(code uint8) (time.Duration, bool) {
	if b, ok := m.Option(code); ok && len(b) == 4 {
		return time.Duration(binary.BigEndian.Uint32(b)) * time.Second, true
	}
	return 0, false
}

// text is a string from the wire, without the zero octets that some senders append.
func text(b []byte) string { return wiretext.Clean(strings.TrimRight(string(b), "\x00")) }

// addressFrom reads four octets; 0.0.0.0 gives the zero address.
func addressFrom(b []byte) netip.Addr {
	a, ok := netip.AddrFromSlice(b)
	if !ok || a.IsUnspecified() {
		return netip.Addr{}
	}
	return a
}

func addressList(b []byte) (out []netip.Addr) {
	for ; len(b) >= 4; b = b[4:] {
		if a := addressFrom(b[:4]); a.IsValid() && !slices.Contains(out, a) {
			out = append(out, a)
		}
	}
	return out
}

// Type is a message type (RFC 2132 §9.6). Zero is a message without one: plain BOOTP, or none of the eight.
type Type uint8

// The eight message types.
const (
	_ Type = iota
	Discover
	Offer
	Request
	Decline
	Ack
	Nak
	Release
	Inform
)

var typeNames = [...]string{"none", "discover", "offer", "request", "decline", "ack", "nak", "release", "inform"}

func (t Type) String() string {
	if int(t) >= len(typeNames) {
		return typeNames[0]
	}
	return typeNames[t]
}

// MarshalText gives the contract's word.
func (t Type) MarshalText() ([]byte, error) { return []byte(t.String()), nil }

// Types lists the eight, in the order of the contract.
func Types() []Type { return []Type{Discover, Offer, Request, Ack, Nak, Decline, Release, Inform} }

// FromServer reports whether messages of the type come from servers.
func (t Type) FromServer() bool { return t == Offer || t == Ack || t == Nak }
