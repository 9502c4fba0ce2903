// Package endpoint is the model of one machine as it stands: its ports, addresses, routes, neighbours and resolvers.
package endpoint

import (
	"net/netip"
	"time"

	"passepartout/internal/core/lease"
)

// Endpoint is everything that was read of a machine at one moment. It is a value to be looked at, not changed.
type Endpoint struct {
	Host       string
	At         time.Time
	Interfaces []Interface
	Routes     []Route
	Rules      []Rule // besides the usual ones, in their order
	Neighbours []Neighbour
	Resolvers  []Resolver
	Search     []string       // the search list of resolv.conf
	Asking     Asking         // how programs here have names asked for
	Switching  []NameSource   // where programs here look for hosts; nil: nothing is said of it
	Hosts      []HostsLine    // the hosts file
	Proxies    []ProxySetting // the session's own first
	Leases     []lease.Lease
	LeaseFlaws []lease.Flaw // files of leases that could not be read
	Stored     []Stored     // what managers keep, as far as it may be read
	Remarks    []string     // what could not be read, or was nonsense, in one line each
}

// Interface is one network port, real or virtual.
type Interface struct {
	Index     int
	Name      string
	Kind      Kind
	Up        bool    // administratively up
	Carrier   Carrier // only meaningful while Up
	SpeedMbit int     // 0: not known
	Duplex    Duplex
	MTU       int // octets of an IP packet
	Hardware  HardwareAddr
	Driver    string // "" when the system does not tell
	Master    string // the bridge, bond or team of which it is a member: that one has the addresses; "" if it is none
	VRF       string `json:",omitempty"` // the domain of routing to which it belongs (VRF): what is not bound to that uses other tables
	VRFTable  int    `json:",omitempty"`
	Addresses []Address
	Counters  Counters
	Manager   string // who sets it again, such as a client of DHCP; "": nobody, as far as the system tells
}

// Stored is what the manager of an interface keeps of its settings of IPv4: a part of a file of his.
type Stored struct {
	Interface string `json:"interface"`
	Manager   string `json:"manager"`
	Path      string `json:"path"`
	Part      string `json:"part"` // "": there is no such file yet
}

// Ifupdown is the manager that interfaces(5) is of.
const Ifupdown = "ifupdown"

// Address is one address of an interface.
type Address struct {
	Prefix     netip.Prefix // the address with its prefix length, host bits kept
	Scope      Scope
	Origin     Origin
	Tentative  bool          // IPv6: not yet checked for duplicates (RFC 4862 §5.4)
	Duplicate  bool          // IPv6: another machine has it
	Deprecated bool          // preferred lifetime has run out
	Valid      time.Duration // remaining, meaningful if Limited
	Preferred  time.Duration
	Limited    bool // the address has a lifetime at all
}

// Route is one entry of a routing table.
type Route struct {
	To        netip.Prefix // 0.0.0.0/0 and ::/0 are the default routes
	Via       netip.Addr   // zero: the destination is on the link itself
	Interface string
	Source    netip.Addr // preferred source address, or zero
	Metric    int
	Table     int
	Origin    Origin
	Protocol  int  // who set it, as the system numbers them (rtnetlink(7)); 0: not told
	OnLink    bool // the gateway is declared to be on the link though no prefix covers it
	Verdict   RouteVerdict
}

// IsDefault reports whether r leads everywhere.
func (r Route) IsDefault() bool { return r.To.IsValid() && r.To.Bits() == 0 }

// Neighbour is what the machine believes of an address on a link.
type Neighbour struct {
	Address   netip.Addr
	Interface string
	Hardware  HardwareAddr
	State     NeighbourState
	Age       time.Duration // since the system last knew it true, if Aged
	Aged      bool
}

// Resolver is a name server the machine is set to ask.
type Resolver struct {
	Address netip.Addr
	Source  string // the file that names it
	Stub    bool   // a forwarder on the machine itself; what it asks stands in further entries
	Behind  bool   // asked by the local stub, not directly
	Passed  bool   // stands behind the third: the system's library passes it over, and no program asks it
}

// HostsLine is one address of the hosts file and the names it is given.
type HostsLine struct {
	Address netip.Addr
	Names   []string
}

// Counters are totals of a port since the interface came up: only their growth means anything.
type Counters struct {
	ReceivedPackets, SentPackets uint64
	ReceivedBytes, SentBytes     uint64
	ReceiveErrors, SendErrors    uint64
	ReceiveDrops, SendDrops      uint64
	Damaged                      uint64 // frames with a wrong checksum, length or alignment; many drivers count them as errors too
	Overruns                     uint64 // frames for which the interface or the system had no room in time
	CarrierLosses                uint64
	Collisions                   uint64 // on half duplex some are usual
}

// Since gives how much the counters have grown. One that has gone back began anew, as after the port was taken down: all that it shows is
// new.
func (c Counters) Since(was Counters) Counters {
	grown := func(now, was uint64) uint64 {
		if now < was {
			return now
		}
		return now - was
	}
	return Counters{
		ReceivedPackets: grown(c.ReceivedPackets, was.ReceivedPackets), SentPackets: grown(c.SentPackets, was.SentPackets),
		ReceivedBytes: grown(c.ReceivedBytes, was.ReceivedBytes), SentBytes: grown(c.SentBytes, was.SentBytes),
		ReceiveErrors: grown(c.ReceiveErrors, was.ReceiveErrors), SendErrors: grown(c.SendErrors, was.SendErrors),
		ReceiveDrops: grown(c.ReceiveDrops, was.ReceiveDrops), SendDrops: grown(c.SendDrops, was.SendDrops),
		Damaged: grown(c.Damaged, was.Damaged), Overruns: grown(c.Overruns, was.Overruns),
		CarrierLosses: grown(c.CarrierLosses, was.CarrierLosses), Collisions: grown(c.Collisions, was.Collisions),
	}
}

// Errors are frames that were lost at the port for certain: errors in either direction, overruns, and damage that the driver does not count
// among its errors.
func (c Counters) Errors() uint64 { return max(c.ReceiveErrors, c.Damaged) + c.SendErrors + c.Overruns }

// Drops are frames that the system did not take: some of them for want of memory, and others because nobody here speaks their protocol,
// which is usual.
func (c Counters) Drops() uint64 { return c.ReceiveDrops + c.SendDrops }

// RouteAnswer is the system's own answer to "how would you reach this address?".
type RouteAnswer struct {
	To        netip.Addr
	Verdict   RouteVerdict
	Interface string
	Via       netip.Addr // zero: on the link
	Source    netip.Addr
	Reason    string // the system's words, when there is no way
}
