// Package scenario holds sites and faults as data: what stands where, what is wrong, what the user complains of, and the verdict
// that is expected. The same data is built as a simulated site (package simulated) and as kernel network namespaces (package namespaces).
package scenario

import (
	"cmp"
	"crypto/sha256"
	"net/netip"
	"slices"
	"time"

	"passepartout/internal/core/endpoint"
)

// Site is a whole network: segments, and nodes on them. docs/scenarios.md describes every field.
type Site struct {
	Name     string              `yaml:"name"`
	Domain   string              `yaml:"domain"`
	Endpoint string              `yaml:"endpoint"` // the node at which the technician stands
	Segments map[string]*Segment `yaml:"segments"`
	Nodes    map[string]*Node    `yaml:"nodes"`
}

// Segment is one link or local network.
type Segment struct {
	Delay Duration `yaml:"delay"` // one way
	Loss  float64  `yaml:"loss"`  // percent of frames, each by itself
	// by how much the delay wavers, on top of it: a frame takes one of three lanes at random, so that one may overtake another
	Jitter Duration `yaml:"jitter"`
	MTU    int      `yaml:"mtu"` // octets of an IP packet that it carries; larger ones vanish. 0: 1500

	Bursts     Bursts `yaml:"bursts"`
	Switch     string `yaml:"switch"`     // the name of the switch that it is, told to its ports by LLDP; "": it says nothing
	VLAN       int    `yaml:"vlan"`       // told with it
	Acquainted bool   `yaml:"acquainted"` // its machines have spoken with each other before and know their hardware addresses
}

// Node is one machine.
type Node struct {
	Role       string           `yaml:"role"`
	Off        bool             `yaml:"off"` // without power
	Ports      map[string]*Port `yaml:"ports"`
	Routes     []Route          `yaml:"routes"`
	Forwards   bool             `yaml:"forwards"`    // it is a router
	Masquerade string           `yaml:"masquerade"`  // the port on which it translates addresses
	NoEcho     bool             `yaml:"no_echo"`     // it ignores echo requests
	NoLoopback bool             `yaml:"no_loopback"` // its loopback port is down
	NoExpiry   bool             `yaml:"no_expiry"`   // it does not say when a hop limit ran out
	Expiries   *Ration          `yaml:"expiries"`    // how often it says so; nil: as often as it happens
	Echoes     *Ration          `yaml:"echoes"`      // how often it answers echo requests; nil: always
	DHCP       *DHCP            `yaml:"dhcp"`
	Advertises *Advertises      `yaml:"advertises"`
	DNS        *DNS             `yaml:"dns"`
	MDNS       string           `yaml:"mdns"` // the name by which it answers for itself (RFC 6762)
	Web        []Web            `yaml:"web"`
	Proxy      *Proxy           `yaml:"proxy"`
	Answers    uint16           `yaml:"answers"` // the UDP port at which our own responder stands; 0: none does
	Captures   []Capture        `yaml:"captures"`
	Relays     []Relay          `yaml:"relays"`
	Filter     []Rule           `yaml:"filter"`

	Resolvers  []netip.Addr          `yaml:"resolvers"`
	Rules      []Lookup              `yaml:"rules"`  // by which its own packets are looked up in a table of their own
	Behind     []netip.Addr          `yaml:"behind"` // whom the name service on the machine itself asks, as systemd-resolved writes it down
	Search     []string              `yaml:"search"`
	ResolvConf string                `yaml:"resolv_conf"` // the file as it stands, in place of the two above
	Switching  string                `yaml:"nsswitch"`    // its nsswitch.conf as it stands; "": the hosts file, then DNS
	Hosts      map[string]netip.Addr `yaml:"hosts"`
	Neighbours []Entry               `yaml:"neighbours"` // what its neighbour table holds from the start
	Proxies    *Proxies              `yaml:"proxies"`    // which web proxies its programs are set to ask
	Programs   []Program             `yaml:"programs"`
}

// Entry is an entry of a neighbour table. Unless it is pinned it is what somebody's word has left there, and it stays for the time of a
// test.
type Entry struct {
	Address netip.Addr `yaml:"address"`
	Of      string     `yaml:"of"`     // the node whose first port's hardware address it has
	Pinned  bool       `yaml:"pinned"` // set by hand, for good
}

// Ration bounds how often a machine speaks: so many at once, and from then on so many a minute.
type Ration struct {
	PerMinute int `yaml:"per_minute"`
	Burst     int `yaml:"burst"`
}

// Port is one network port of a node.
type Port struct {
	Segment   string         `yaml:"segment"`
	Addresses []netip.Prefix `yaml:"addresses"`
	Leased    bool           `yaml:"leased"` // the IPv4 address has a lifetime, as one from DHCP has
	// what the DHCP client's file says; nil on a leased port: what the segment's DHCP service gives
	Lease  *Lease  `yaml:"lease"`
	Before []Lease `yaml:"before"` // older ones that the file still holds, the oldest first
	Asks   *Asks   `yaml:"asks"`   // a DHCP client that keeps asking on this port
	// its IPv6 addresses are checked for duplicates first (RFC 4862 §5.4); otherwise they are in use at once
	Checks    bool    `yaml:"checks_duplicates"`
	Down      bool    `yaml:"down"`      // administratively
	Unplugged bool    `yaml:"unplugged"` // no carrier
	Hardware  string  `yaml:"hardware"`  // its hardware address; "": one of its own, see Hardware
	Speed     int     `yaml:"speed"`     // Mbit/s; 0: 1000
	Half      bool    `yaml:"half"`      // half duplex
	Damage    float64 `yaml:"damage"`    // percent of the frames that arrive damaged: the port drops and counts them
	// a tunnel whose far end has gone: what is sent through it is lost. It needs no segment
	Tunnel   bool `yaml:"tunnel"`
	Bridge   bool `yaml:"bridge"`    // a bridge of this machine, such as containers bring, on which nothing stands. It needs no segment
	ProxyARP bool `yaml:"proxy_arp"` // it answers for the addresses to which the node has a way elsewhere (RFC 1027)
	// octets; 0: 1500. A router says "too big" for what does not fit the port that it must leave by
	MTU int `yaml:"mtu"`
}

// Lease is what a DHCP client wrote down. What is not given is as the segment's DHCP service has it.
type Lease struct {
	Address   netip.Addr   `yaml:"address"` // what is not given is the port's
	Server    netip.Addr   `yaml:"server"`
	Ago       Duration     `yaml:"ago"` // when it was obtained; 0: 8 minutes ago
	For       Duration     `yaml:"for"`
	Bits      int          `yaml:"bits"`
	Routers   []netip.Addr `yaml:"routers"`
	Resolvers []netip.Addr `yaml:"resolvers"`

	portal, proxyFile string // as the service has it
}

// Asks is a DHCP client that asks again and again: for a lease, or with wants by turns for an address that it had (RFC 2131 §3.2).
type Asks struct {
	Every Duration   `yaml:"every"`
	Wants netip.Addr `yaml:"wants"`
}

// Advertises is what a router says to IPv6 machines of a segment (RFC 4861 §4.2), on a node's first port.
type Advertises struct {
	Prefix    netip.Prefix `yaml:"prefix"`
	Lifetime  Duration     `yaml:"lifetime"` // as a default router
	Resolvers []netip.Addr `yaml:"resolvers"`
	Search    []string     `yaml:"search"`
	Portal    string       `yaml:"portal"` // the captive portal that it names (RFC 8910)
	Inform    bool         `yaml:"inform"` // it answers information-requests (DHCPv6) with the same
}

// Route is a route beyond those that follow from the addresses.
type Route struct {
	To     netip.Prefix `yaml:"to"`
	Via    netip.Addr   `yaml:"via"`
	Port   string       `yaml:"port"` // needed with on_link only
	OnLink bool         `yaml:"on_link"`
	ByHand bool         `yaml:"by_hand"` // marked as static; else as set by DHCP on a leased port
	Metric int          `yaml:"metric"`
	Refuse string       `yaml:"refuse"` // blackhole, unreachable or prohibit, in place of via
	Table  int          `yaml:"table"`  // 0: the main one
	Source netip.Addr   `yaml:"source"` // spoken from; zero: the address in whose network the next hop lies
	Or     netip.Addr   `yaml:"or"`     // a second next hop: each flow takes one of the two, by addresses and ports (UDP, TCP)
}

// DHCP is a DHCPv4 service on a node's first port.
type DHCP struct {
	First     netip.Addr            `yaml:"first"`
	Last      netip.Addr            `yaml:"last"`
	Bits      int                   `yaml:"bits"`
	Routers   []netip.Addr          `yaml:"routers"`
	Resolvers []netip.Addr          `yaml:"resolvers"`
	Domain    string                `yaml:"domain"`
	Lease     Duration              `yaml:"lease"`
	Portal    string                `yaml:"portal"`     // the captive portal's interface that it names (RFC 8910)
	ProxyFile string                `yaml:"proxy_file"` // the automatic proxy configuration that it names (option 252)
	Fixed     map[string]netip.Addr `yaml:"fixed"`      // by node name
	Exhausted bool                  `yaml:"exhausted"`  // every address is somebody else's, fixed ones included
	Ignores   []string              `yaml:"ignores"`    // nodes to which it does not answer
	Slow      Duration              `yaml:"slow"`       // how long it tests an address before it offers it (simulated ground only)
}

// DNS is a name service. Names that it holds no record for do not exist, unless it forwards.
type DNS struct {
	Records map[string][]netip.Addr `yaml:"records"`
	Zone    string                  `yaml:"zone"`    // the domain for which it answers by itself
	Forward netip.Addr              `yaml:"forward"` // whom it asks for the rest; without one it refuses
	TTL     Duration                `yaml:"ttl"`     // of all records; 0: 5 minutes

	Slow      Duration `yaml:"slow"`      // it takes so long over every answer
	EDNS      string   `yaml:"edns"`      // what becomes of questions with EDNS: dropped, refused; empty: they are answered
	Truncates bool     `yaml:"truncates"` // answers that hold anything do not fit a datagram
}

// Web is a web service that answers every request with a short page.
type Web struct {
	Port uint16 `yaml:"port"`
	TLS  bool   `yaml:"tls"`
	Cert string `yaml:"cert"` // what is wrong with its certificate: expired, another (for another name), untrusted; empty: nothing

	Status   int      `yaml:"status"`   // of every answer; 0: 200
	Slow     Duration `yaml:"slow"`     // it takes so long over every answer
	Location string   `yaml:"location"` // where it sends everybody
	Captive  *bool    `yaml:"captive"`  // it is the interface of a captive portal, and says this (RFC 8908)
	Says     string   `yaml:"says"`     // it is none: what it says to everybody who connects, and no more
	Body     string   `yaml:"body"`     // what it gives in place of its short page
}

// Proxy is a web proxy that passes requests on to the names of the node's hosts, or refuses all of them with a status.
type Proxy struct {
	Port    uint16 `yaml:"port"`
	Refuses int    `yaml:"refuses"`
}

// Proxies is how a machine's programs are set to ask web proxies: the values of the customary variables.
type Proxies struct {
	HTTP   string `yaml:"http"`
	HTTPS  string `yaml:"https"`
	Except string `yaml:"except"`
}

// Variables gives the settings under the names by which programs read them.
func (p *Proxies) Variables() map[string]string {
	return map[string]string{"http_proxy": p.HTTP, "https_proxy": p.HTTPS, "no_proxy": p.Except}
}

// Capture is what a captive portal does on a router: IPv4 connections of the first port's segment to this port of anybody beyond are
// accepted by the router itself, at a port of its own.
type Capture struct {
	Port uint16     `yaml:"port"`
	At   uint16     `yaml:"at"`
	To   netip.Addr `yaml:"to"` // those to this address alone; of anybody where it is not given
}

// Takes reports whether connections to an address and port are accepted in its place.
func (c Capture) Takes(a netip.Addr, port uint16) bool {
	return c.Port == port && (!c.To.IsValid() || c.To == a)
}

// Relay is what accepts connections at a port and passes all that comes on to a service, as firewalls and accelerators do.
type Relay struct {
	Port uint16         `yaml:"port"`
	To   netip.AddrPort `yaml:"to"`
}

// Rule is one rule of a node's packet filter. Empty fields match anything.
type Rule struct {
	Chain  string       `yaml:"chain"` // in, out or forward
	Proto  string       `yaml:"proto"` // tcp, udp, icmp, or empty
	From   netip.Prefix `yaml:"from"`
	To     netip.Prefix `yaml:"to"`
	Port   uint16       `yaml:"port"`   // destination port
	Action string       `yaml:"action"` // drop, prohibit (ICMP: administratively), no-host or no-net (ICMP: unreachable)
}

// Lookup is a rule of policy routing: packets to some destinations, from some addresses, are looked up in a table of their own.
type Lookup struct {
	From  netip.Prefix `yaml:"from"`
	To    netip.Prefix `yaml:"to"`
	Mark  uint32       `yaml:"mark"` // for packets that carry it alone; nothing here marks any
	But   bool         `yaml:"but"`  // for all but those
	Table int          `yaml:"table"`
	// 0: 1000 for the first of a node, 1001 for the next
	Priority int `yaml:"priority"`
}

// Applies reports whether the rule is about what a node sends from an address of its own.
func (l Lookup) Applies(n *Node) bool {
	return (l.Mark == 0 || l.But) && (!l.From.IsValid() || slices.ContainsFunc(n.Own(), l.From.Contains))
}

// Duration is a time with a unit, as in "2ms".
type Duration time.Duration

// UnmarshalText reads "2ms", "1h30m".
func (d *Duration) UnmarshalText(b []byte) error {
	v, err := time.ParseDuration(string(b))
	*d = Duration(v)
	return err
}

// MarshalText writes the duration with its unit.
func (d Duration) MarshalText() ([]byte, error) { return []byte(time.Duration(d).String()), nil }

// Worn reports whether the port is out of order in a way that only a port of our own making can show on a kernel.
func (p *Port) Worn() bool { return p.Damage > 0 || p.Speed > 0 || p.Half }

// Leases reports whether an address of the port is the one that a DHCP server has given: the first of IPv4. What was added later was not.
func (p *Port) Leases(a netip.Prefix) bool {
	first := slices.IndexFunc(p.Addresses, func(x netip.Prefix) bool { return x.Addr().Is4() })
	return p.Leased && first >= 0 && p.Addresses[first] == a
}

// Alone reports whether the port stands on no segment.
func (p *Port) Alone() bool { return p.Tunnel || p.Bridge }

// NodeNames lists the nodes that have power, in order.
func (s *Site) NodeNames() []string {
	var out []string
	for name, n := range s.Nodes {
		if !n.Off {
			out = append(out, name)
		}
	}
	slices.Sort(out)
	return out
}

// PortNames lists a node's ports in order: the first is the one on which its services listen.
func (n *Node) PortNames() []string {
	var out []string
	for name := range n.Ports {
		out = append(out, name)
	}
	slices.Sort(out)
	return out
}

// Life is how long a record of the service may be kept.
func (d *DNS) Life() time.Duration { return cmp.Or(time.Duration(d.TTL), 5*time.Minute) }

// Duplicate reports whether a port checks its IPv6 addresses and another machine on the segment has this one.
func (s *Site) Duplicate(node, port string, a netip.Addr) bool {
	own := s.Nodes[node].Ports[port]
	if !own.Checks || !a.Is6() {
		return false
	}
	for _, other := range s.NodeNames() {
		for _, p := range s.Nodes[other].Ports {
			if p != own && p.Segment == own.Segment && !p.Down &&
				slices.ContainsFunc(p.Addresses, func(x netip.Prefix) bool { return x.Addr() == a }) {
				return true
			}
		}
	}
	return false
}

// HardwareOf is the hardware address of a port: the one that is given, else one made from its name.
func (s *Site) HardwareOf(node, port string) endpoint.HardwareAddr {
	if n := s.Nodes[node]; n != nil && n.Ports[port] != nil && n.Ports[port].Hardware != "" {
		if h, err := endpoint.ParseHardware(n.Ports[port].Hardware); err == nil {
			return h
		}
	}
	return Hardware(node, port)
}

// FirstHardware is that of a node's first port.
func (s *Site) FirstHardware(node string) endpoint.HardwareAddr {
	n := s.Nodes[node]
	if n == nil || len(n.Ports) == 0 {
		return endpoint.HardwareAddr{}
	}
	return s.HardwareOf(node, n.PortNames()[0])
}

// Hardware makes a hardware address from a port's name: locally administered, and the same on every ground.
func Hardware(node, port string) endpoint.HardwareAddr {
	sum := sha256.Sum256([]byte(node + "/" + port))
	return endpoint.HardwareAddr{0x02, 0, sum[0], sum[1], sum[2], sum[3]}
}
