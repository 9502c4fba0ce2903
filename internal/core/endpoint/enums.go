package endpoint

import (
	"encoding/hex"
	"fmt"
	"strings"

	"passepartout/internal/core/wiretext"
)

// HardwareAddr is a link-layer address of six octets, comparable; the zero value is "none".
type HardwareAddr [6]byte

// HardwareFrom takes a link-layer address from the wire or the system; false for any other length than six.
func HardwareFrom(b []byte) (h HardwareAddr, ok bool) {
	return h, copy(h[:], b) == 6 && len(b) == 6
}

// ParseHardware reads 02:00:00:00:10:17, with colons or hyphens, or as 0200.0000.1017.
func ParseHardware(s string) (h HardwareAddr, err error) {
	digits := strings.NewReplacer(":", "", "-", "", ".", "").Replace(s)
	b, err := hex.DecodeString(digits)
	h, ok := HardwareFrom(b)
	if err != nil || !ok || h.IsZero() {
		return HardwareAddr{}, fmt.Errorf("hardware address %q: give six octets, as 02:00:00:00:10:17", wiretext.Clip(s))
	}
	return h, nil
}

// Private reports whether the address was made up by the machine itself or whoever set it up, so that no registry knows it (IEEE 802, the
// U/L bit).
func (h HardwareAddr) Private() bool { return h[0]&2 != 0 }

// Shared reports whether the address belongs to a group of routers and not to a card: VRRP (RFC 9568 §7.3), HSRP (RFC 2281 §4).
func (h HardwareAddr) Shared() bool {
	return h[0] == 0 &&
		(h[1] == 0 && h[2] == 0x5e && h[3] == 0 && (h[4] == 1 || h[4] == 2) || h[1] == 0 && h[2] == 0x0c && h[3] == 0x07 && h[4] == 0xac)
}

// IsZero reports whether there is no address.
func (h HardwareAddr) IsZero() bool { return h == HardwareAddr{} }

func (h HardwareAddr) String() string {
	if h.IsZero() {
		return ""
	}
	parts := make([]string, 6)
	for i, b := range h {
		parts[i] = fmt.Sprintf("%02x", b)
	}
	return strings.Join(parts, ":")
}

// Kind is the sort of an interface.
type Kind uint8

// The sorts of interface. Zero is one that is none of the others.
const (
	OtherKind Kind = iota
	Wired
	Wireless
	LoopbackKind
	Bridge
	Tunnel
)

var kindNames = [...]string{"other", "wired", "wireless", "loopback", "bridge", "tunnel"}

func (k Kind) String() string { return kindNames[k] }

// Carrier says whether a signal is on the line.
type Carrier uint8

// The states of a carrier.
const (
	CarrierUnknown Carrier = iota
	CarrierAbsent
	CarrierPresent
)

var carrierNames = [...]string{"not known", "absent", "present"}

func (c Carrier) String() string { return carrierNames[c] }

// Duplex is the direction of traffic that a port allows at once.
type Duplex uint8

// The duplex modes.
const (
	DuplexUnknown Duplex = iota
	HalfDuplex
	FullDuplex
)

var duplexNames = [...]string{"not known", "half", "full"}

func (d Duplex) String() string { return duplexNames[d] }

// Scope is how far an address reaches.
type Scope uint8

// The scopes.
const (
	ScopeUnknown Scope = iota
	ScopeHost
	ScopeLink
	ScopeGlobal
)

var scopeNames = [...]string{"not known", "host", "link", "global"}

func (s Scope) String() string { return scopeNames[s] }

// Origin says who set an address or a route, as far as the system tells.
type Origin uint8

// The origins. Zero is "the system does not tell".
const (
	OriginUnknown Origin = iota
	ByHand
	ByDHCP
	ByRouterAdvertisement
	ByKernel
	ByRoutingDaemon
)

var originNames = [...]string{"not told", "by hand", "by DHCP", "by router advertisement", "by the kernel", "by a routing daemon"}

func (o Origin) String() string { return originNames[o] }

// Words say who has set what is of that origin.
func (o Origin) Words() string {
	if o == 0 {
		return "origin unknown"
	}
	return "set " + o.String()
}

// NeighbourState is how sure the system is of a neighbour (RFC 4861 §7.3.2, used for ARP as well).
type NeighbourState uint8

// The states of a neighbour.
const (
	NeighbourUnknown NeighbourState = iota
	Incomplete
	Reachable
	Stale
	Delay
	Probe
	Failed
	Permanent
	NoARP
)

var neighbourNames = [...]string{"not known", "asked, no answer yet", "answered lately", "not asked lately", "about to be asked",
	"being asked again", "silent", "fixed by hand", "needs no asking"}

func (s NeighbourState) String() string { return neighbourNames[s] }

// Resolved reports whether the entry names a hardware address that was true at some time.
func (s NeighbourState) Resolved() bool {
	return s == Reachable || s == Stale || s == Delay || s == Probe || s == Permanent
}

// RouteVerdict is what a route does with a packet.
type RouteVerdict uint8

// What a route, or a route lookup, says.
const (
	RouteUnknown     RouteVerdict = iota
	Forward                       // there is a way
	NoRoute                       // no entry covers the destination
	Blackhole                     // dropped without a word
	UnreachableRoute              // refused as unreachable
	ProhibitedRoute               // refused as prohibited
	LocalRoute                    // the machine's own address
)

var routeNames = [...]string{"not known", "leads on", "no route", "blackhole", "unreachable", "prohibited", "this machine itself"}

func (v RouteVerdict) String() string { return routeNames[v] }
