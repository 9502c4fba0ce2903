package evidence

import (
	"net/netip"
	"slices"
	"time"

	"passepartout/internal/core/dhcp"
	"passepartout/internal/core/endpoint"
)

// Reply is what came back to one question. RTT is set when anything did.
type Reply struct {
	Outcome      Outcome
	From         netip.Addr // who spoke, when somebody did
	Why          Why        // with Unreachable and Refused
	ICMPType     uint8      // with Unreachable and Expired, as on the wire
	ICMPCode     uint8
	RTT          time.Duration
	HopLimitLeft int           // of the packet that came back; 0: not known
	Forbidden    bool          // with LocalError: this machine's own rules refused to send
	Reason       string        // with LocalError and Malformed: in words
	Waited       time.Duration // with Silent: how long
	Unsent       int           // with Silent, of a connection: repeats of this machine that its own system did not let out, of all programs
	MTU          int           // with TooBig: of the link that it did not fit; 0: not said
}

// Came reports whether anything at all came back from the network.
func (r Reply) Came() bool {
	return r.Outcome == Answered || r.Outcome == Refused || r.Outcome == Unreachable || r.Outcome == Expired || r.Outcome == Malformed
}

// Unheard reports silence: nothing came within the time, or this machine's own system gave up on the next hop's hardware address, after it
// had asked the segment for it. Which of the two it is depends on when the system began to ask, and says nothing of the network.
func (r Reply) Unheard() bool {
	return r.Outcome == Silent || r.Outcome == LocalError && r.Reason == NoNextHop
}

// ByKernel is the method of a neighbour question that the system put on our behalf.
const ByKernel = "by the kernel"

// Remembered is the reason of a neighbour question of which nothing is known: the system had the answer from before.
const Remembered = "the kernel remembers it and has not asked anew"

// Neighbour is the question "which link-layer address has this address?" (RFC 826, RFC 4861 §7.2).
type Neighbour struct {
	Asked    netip.Addr
	Method   string // "arp", "nd", or ByKernel
	Asks     int
	Hardware []endpoint.HardwareAddr // every one that answered; more than one is a finding
	Reply
}

// Echo is one echo request (RFC 792, RFC 4443 §4.1), or a UDP datagram in its place where echo is withheld.
type Echo struct {
	Asked  netip.Addr
	Method string // "icmp" or "udp"
	Size   int    // payload octets
	Reply
}

// ByConnections is the method of a burst of connections to the target's own service: no host rations those as it does what it answers to
// echo (RFC 1812 §4.3.2.8).
const ByConnections = "tcp"

// Burst is a number of small probes to one address in a short time, all of which have come to their end.
type Burst struct {
	To             netip.Addr
	Method         string // "icmp", "dns" for questions to a name server about itself, or ByConnections
	Sent, Received int
	Median         time.Duration // of the round trips, when any came
	Late           time.Duration `json:",omitempty"` // how long this process waited for its turn meanwhile, on the average
}

// Sizing is the search for the largest packet that reaches an address whole. Sizes are those of IP packets.
type Sizing struct {
	To     netip.Addr
	Full   int        // the size that this machine sends to there: its port's MTU
	Passes int        // the largest that came back; 0: none
	Lost   int        // the smallest that was lost; 0: none
	Told   bool       // somebody said "too big"
	From   netip.Addr // who
}

// Hop is one packet sent with a hop limit to learn which router ends it.
type Hop struct {
	To       netip.Addr
	Method   string
	HopLimit int
	Reply
}

// Lookup is one question to one resolver.
type Lookup struct {
	Server    netip.Addr
	Name      string
	Type      string // "A", "AAAA", "PTR", or "CH" for a question about the server itself
	RCode     string // as RFC 6895 names it, when a message came back
	Addresses []netip.Addr
	Aliases   []string      // the CNAME chain
	Life      time.Duration // how long the answer may be kept: the least TTL in it (RFC 1035 §3.2.1)
	Asks      int

	Records       []Record // the answer section, a few dozen of them at most
	Authoritative bool     // the server answers for its own zone (AA, RFC 1035 §4.1.1)
	Truncated     bool     // the answer did not fit a datagram (TC)
	Cut           bool     // and the whole of it could not be had by TCP
	TCP           bool     // the question went over TCP from the start
	Ignored       int      // messages that were no answer to this question
	Reply
}

// Record is one record of an answer, its value as text (RFC 1035 §5.1).
type Record struct {
	Name  string
	Type  string
	TTL   time.Duration
	Value string
}

// Has reports whether there is a record of the kind that was asked for. An alias alone (CNAME) is none: what it leads to may not exist.
func (l Lookup) Has() bool {
	return slices.ContainsFunc(l.Records, func(r Record) bool { return r.Type == l.Type })
}

// DNS64 as the type of a look-up asks a name server for the prefix under which it gives IPv4 addresses as IPv6 ones: for the IPv6 addresses
// of the name ipv4only.arpa, which has none (RFC 7050 §3).
const DNS64 = "DNS64"

// AboutTarget reports whether the question was for the target's addresses, and not only whether the server lives or what a station is
// called.
func (l Lookup) AboutTarget() bool { return l.Type == "A" || l.Type == "AAAA" }

// Unassigned is an address that no host holds (RFC 5737). Routers on the way out answer for the hop limits of packets to it: the last
// resort when no address beyond the gateway is known. That nothing answers behind some router proves nothing.
var Unassigned = netip.AddrFrom4([4]byte{192, 0, 2, 1})

// Connect is one attempt to open a connection (RFC 9293).
type Connect struct {
	To netip.AddrPort
	Reply
}

// Web is one request to a web service.
type Web struct {
	URL      string
	To       netip.AddrPort
	Status   int
	Location string // of a redirect
	Relay    string // who says that he has passed the answer on: the Via field of its head (RFC 9110 §7.6.3)
	Spoke    string // with Malformed: how what came began, if it was not of the protocol asked for, HTTP or TLS
	Via      string // the proxy that was asked to pass the request on, with its port; "": the service itself was asked
	Flaw     TLSFlaw
	Shown    Certificate // what the service showed of itself, with Flaw
	Date     time.Time   // by the service's own clock (RFC 9110 §6.6.1); zero: not said
	At       time.Time   // by this machine's clock, when that came
	Reply
}

// ShortConnect is an attempt to open a connection with a hop limit that does not suffice for the way: whoever accepts it is nearer than the
// one it was meant for.
type ShortConnect struct {
	To       netip.AddrPort
	HopLimit int
	Reply
}

// Captivity is what a captive portal's interface says of this machine (RFC 8908 §5).
type Captivity uint8

// The answers. Zero: it did not say.
const (
	CaptivityNotSaid Captivity = iota
	CaptiveYes
	CaptiveNo
)

// Portal is the question to a captive portal's interface, which the network names (RFC 8910), whether this machine must log in.
type Portal struct {
	URL     string
	Captive Captivity
	Page    string // where a person logs in
	Reply
}

// TLSFlaw is why a secure connection did not come about.
type TLSFlaw uint8

// The flaws. Zero: none.
const (
	NoFlaw TLSFlaw = iota
	CertificateExpired
	CertificateNotYetValid
	CertificateOfAnother // for other names than the one asked for
	CertificateUntrusted
	NoSecureConnection // it broke before a certificate was judged
)

var flawNames = [...]string{"", "the certificate has expired", "the certificate is not valid yet", "the certificate is for another name",
	"nobody whom this machine trusts has signed the certificate", "no secure connection comes about"}

func (f TLSFlaw) String() string { return flawNames[f] }

// Certificate is what matters of one (RFC 5280).
type Certificate struct {
	Names     []string
	Issuer    string
	NotBefore time.Time
	NotAfter  time.Time
}

// ValidAt reports whether a moment lies within its validity.
func (c Certificate) ValidAt(t time.Time) bool { return !t.Before(c.NotBefore) && !t.After(c.NotAfter) }

// OtherWay is an attempt to reach the target out of another port than the routing table chooses.
type OtherWay struct {
	Interface string
	To        netip.AddrPort
	Reply
}

// Discovery is one DHCP probe: discovers sent, offers collected, no lease taken (RFC 2131 §3.1, steps 1 and 2), and what was overheard
// meanwhile.
type Discovery struct {
	Interface string
	Discovers int
	Informed  bool // an INFORM was sent for the address held (RFC 2131 §3.4)
	Offers    []Offer
	Answers   []Offer      // acknowledgements of the INFORM: settings, and no address
	Refusals  []netip.Addr // servers that answered NAK to this machine
	Serving   []netip.Addr // servers that were heard giving addresses to others
	Complete  bool         // the time for offers is over
	Waited    time.Duration
}

// Offer is what one DHCP server would give.
type Offer struct {
	Server    netip.Addr
	Hardware  endpoint.HardwareAddr
	Address   netip.Prefix // offered address with its mask; /32 if the server gave none
	Routers   []netip.Addr
	Resolvers []netip.Addr
	Domain    string
	Lease     time.Duration
	Terms     dhcp.Terms // all that the server gives
	Options   []dhcp.Described
	Relay     netip.Addr
	RTT       time.Duration
}

// Disagreement is two offers that part in something that a machine needs.
type Disagreement struct {
	A, B  Offer
	Parts []string
}

// Disagreements compares every offer with those before it.
func (d *Discovery) Disagreements() (out []Disagreement) {
	for i, b := range d.Offers {
		for _, a := range d.Offers[:i] {
			if parts := b.Terms.Differences(a.Terms); len(parts) > 0 {
				out = append(out, Disagreement{a, b, parts})
			}
		}
	}
	return out
}

// Handoff is a packet for an address that was handed to one neighbour in a frame of our own, whatever the routing table says: it shows
// whether that neighbour passes traffic on, and whether the address is to be reached through it.
type Handoff struct {
	To       netip.Addr
	By       netip.Addr
	HopLimit int
	Reply
}

// Passed reports whether the neighbour has shown that it passes traffic on: it says that the hop limit ran out, or something beyond it
// answers.
func (h Handoff) Passed() bool { return h.Outcome == Expired || h.Reached() }

// Reached reports whether the address itself answered.
func (h Handoff) Reached() bool {
	return (h.Outcome == Answered || h.Outcome == Refused) && h.From == h.To
}

// Advertisement is what a router says of the segment (RFC 4861 §4.2).
type Advertisement struct {
	Router    netip.Addr // link-local
	Hardware  endpoint.HardwareAddr
	Lifetime  time.Duration // as a default router; 0: it is none
	Managed   bool          // addresses are to be had by DHCPv6
	Other     bool          // other settings are
	MTU       int
	Prefixes  []AdvertisedPrefix
	Resolvers []netip.Addr // RFC 8106 §5.1
	Search    []string     // RFC 8106 §5.2
	// the prefix of a translator to IPv4 (RFC 8781), or zero
	Translation netip.Prefix `json:",omitzero"`
	RTT         time.Duration

	CaptivePortal string // RFC 8910 §2.3
}

// AdvertisedPrefix is one prefix of an advertisement (RFC 4861 §4.6.2).
type AdvertisedPrefix struct {
	Prefix     netip.Prefix
	OnLink     bool
	Autonomous bool // addresses may be made from it (RFC 4862)
	Valid      time.Duration
	Preferred  time.Duration
}

// Information is what a DHCPv6 server answers to an information-request (RFC 8415 §18.2.6).
type Information struct {
	From      netip.Addr
	Server    string // its DUID
	Resolvers []netip.Addr
	Search    []string
	RTT       time.Duration

	CaptivePortal string // RFC 8910 §2.2
}

// Conflict is the question whether another machine holds an address of ours (RFC 5227 §2.1.1).
type Conflict struct {
	Address  netip.Addr
	Hardware endpoint.HardwareAddr
	Reply
}

// PortCount is how the counters of a port stood when the probes began, and when they had been at work for a while.
type InterfaceCount struct {
	Interface     string
	Over          time.Duration
	Before, After endpoint.Counters
}

// Switch is what the device at the other end of the cable says of itself (LLDP, IEEE 802.1AB).
type Switch struct {
	Chassis  string
	Name     string
	About    string
	Port     string
	PortText string
	VLAN     int // of untagged frames on the port; 0: not said
	Address  netip.Addr
	Hardware endpoint.HardwareAddr
	Life     time.Duration // how long it stays true
}

// Heard is a machine that spoke on the segment unasked.
type Heard struct {
	Address  netip.Addr
	Hardware endpoint.HardwareAddr
}

// Arrival is a packet for this machine that was seen on the port, whether or not a socket got it.
type Arrival struct {
	From  netip.Addr
	Proto string // "icmp", "tcp", "udp"
	Port  uint16 // the sender's port; 0 for ICMP
}

// Withheld is evidence that could not be gathered, and why.
type Withheld struct {
	Kind Kind   `json:"evidence"`
	Why  string `json:"why"`
	Mend string `json:"mend,omitempty"` // the one command that would allow it
}
