package scenario

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"time"
)

// Mutation is one thing of the surroundings that is otherwise and harms nobody, such as offices, homes and server rooms are full of: the
// verdict's zone must be the same with it.
type Mutation struct {
	Name string
	// Apply changes the site. It is false where the change would not be harmless, or makes no sense.
	Apply func(*Scenario, *rand.Rand) bool
}

// The networks of what is added. None of them is one of a site's, nor of its variations.
var (
	benchPrefix  = netip.MustParsePrefix("10.77.0.5/24")
	benchOther   = netip.MustParsePrefix("10.77.0.9/24")
	bridgePrefix = netip.MustParsePrefix("172.17.0.1/16")
	tunnelPrefix = netip.MustParsePrefix("10.201.0.2/24")
	oldPrefix    = netip.MustParsePrefix("192.0.2.77/24")
	unusedPrefix = netip.MustParsePrefix("10.202.0.0/16")
)

// Mutations lists them.
var Mutations = []Mutation{
	{"another interface, without a cable", func(s *Scenario, _ *rand.Rand) bool { return s.addPort("eth7", Port{Unplugged: true}) }},
	{"another interface, switched off", func(s *Scenario, _ *rand.Rand) bool { return s.addPort("eth7", Port{Down: true}) }},
	{"another interface, on a segment of its own", func(s *Scenario, _ *rand.Rand) bool {
		if len(s.endpoint().Routes) == 0 || !s.addPort("eth7", Port{Addresses: []netip.Prefix{benchPrefix}}) {
			return false // without any route nobody could say which of the two was meant
		}
		s.Site.Nodes["bench-meter"] = &Node{Ports: map[string]*Port{"eth0": {Segment: spareSegment,
			Addresses: []netip.Prefix{benchOther}}}}
		return true
	}},
	{"a bridge for containers", func(s *Scenario, _ *rand.Rand) bool {
		return s.addPort("virt0", Port{Bridge: true, Addresses: []netip.Prefix{bridgePrefix}})
	}},
	{"a tunnel that nothing uses", func(s *Scenario, _ *rand.Rand) bool {
		return s.addPort("tun7", Port{Tunnel: true, Addresses: []netip.Prefix{tunnelPrefix}})
	}},
	{"a lease of another day in the file", oldLease},
	{"one more name server", moreResolvers},
	{"echo rationed at the gateway", func(s *Scenario, r *rand.Rand) bool { return s.ration(r, func(n *Node) bool { return n.Forwards }) }},
	{"echo rationed at every server", func(s *Scenario, r *rand.Rand) bool {
		return s.ration(r, func(n *Node) bool { return len(n.Web) > 0 || n.DNS != nil })
	}},
	{"routers that say rarely that a hop limit ran out", func(s *Scenario, r *rand.Rand) bool {
		changed := false
		for _, name := range s.Site.NodeNames() {
			if n := s.Site.Nodes[name]; n.Forwards && n.Expiries == nil && !n.NoExpiry && !s.onSegment(n) {
				n.Expiries, changed = &Ration{PerMinute: 60 + r.IntN(120), Burst: 4 + r.IntN(4)}, true
			}
		}
		return changed
	}},
	{"more neighbours", moreNeighbours},
	{"a network that a route refuses", func(s *Scenario, _ *rand.Rand) bool {
		n := s.endpoint()
		n.Routes = append(slices.Clone(n.Routes), Route{To: unusedPrefix, Refuse: "unreachable"})
		return true
	}},
	{"names of others in the hosts file", func(s *Scenario, _ *rand.Rand) bool {
		n := s.endpoint()
		hosts := map[string]netip.Addr{"spare.kittiwake.example": netip.MustParseAddr("203.0.113.200")}
		for name, a := range n.Hosts {
			hosts[name] = a
		}
		n.Hosts = hosts
		return true
	}},
	{"a second address on the interface", func(s *Scenario, _ *rand.Rand) bool {
		p := s.firstPort()
		if !slices.ContainsFunc(p.Addresses, func(a netip.Prefix) bool { return a.Addr().Is4() && !a.Addr().IsLinkLocalUnicast() }) {
			return false // with it the machine would have one
		}
		p.Addresses = append(slices.Clone(p.Addresses), benchPrefix)
		return true
	}},
	{"everything takes longer", func(s *Scenario, r *rand.Rand) bool {
		s.Site.pace(1.5 + r.Float64())
		return true
	}},
}

// spareSegment is where added interfaces stand.
const spareSegment = "spare"

func (s *Scenario) endpoint() *Node { return s.Site.Nodes[s.Site.Endpoint] }

func (s *Scenario) firstPort() *Port {
	n := s.endpoint()
	return n.Ports[n.PortNames()[0]]
}

// onSegment reports whether a node stands on the endpoint's segment.
func (s *Scenario) onSegment(n *Node) bool {
	for _, p := range n.Ports {
		if p.Segment != "" && p.Segment == s.firstPort().Segment {
			return true
		}
	}
	return false
}

// addPort gives the endpoint one more interface.
func (s *Scenario) addPort(name string, p Port) bool {
	n := s.endpoint()
	if n.Ports[name] != nil {
		return false
	}
	if !p.Alone() {
		s.Site.Segments[spareSegment] = &Segment{Delay: Duration(200 * time.Microsecond)}
		p.Segment = spareSegment
	}
	n.Ports[name] = &p
	return true
}

func oldLease(s *Scenario, r *rand.Rand) bool {
	p := s.firstPort()
	days := time.Duration(2 + r.IntN(40))
	gateway := oldPrefix.Masked().Addr().Next()
	p.Before = append(p.Before, Lease{Address: oldPrefix.Addr(), Server: gateway, Bits: oldPrefix.Bits(), For: Duration(12 * time.Hour),
		Ago: Duration(days * 24 * time.Hour), Routers: []netip.Addr{gateway}, Resolvers: []netip.Addr{gateway}})
	return true
}

// moreResolvers adds one of the segment that knows what the first of the site's own does, where names are not what the case is about.
func moreResolvers(s *Scenario, _ *rand.Rand) bool {
	n, p := s.endpoint(), s.firstPort()
	about := s.Expect.Fault + s.Name
	if n.ResolvConf != "" || len(n.Resolvers) == 0 || len(n.Resolvers) > 2 || strings.Contains(about, "name") ||
		strings.Contains(about, "resolver") || strings.Contains(about, "forwarder") || strings.Contains(about, "stub") {
		return false
	}
	a, ok := s.freeAddress(p, 222)
	if !ok {
		return false
	}
	for _, name := range s.Site.NodeNames() {
		if server := s.Site.Nodes[name]; server.DNS != nil && !server.DNS.Forward.IsValid() {
			records := *server.DNS
			s.Site.Nodes["spare-names"] = &Node{Ports: map[string]*Port{"eth0": {Segment: p.Segment, Addresses: []netip.Prefix{a}}},
				DNS: &records}
			n.Resolvers = append(slices.Clone(n.Resolvers), a.Addr())
			return true
		}
	}
	return false
}

func moreNeighbours(s *Scenario, r *rand.Rand) bool {
	p := s.firstPort()
	any := false
	for i := range 3 {
		if a, ok := s.freeAddress(p, 201+5*i+r.IntN(5)); ok {
			s.Site.Nodes[fmt.Sprintf("visitor-%d", i+1)] = &Node{Ports: map[string]*Port{"eth0": {Segment: p.Segment,
				Addresses: []netip.Prefix{a}}}}
			any = true
		}
	}
	return any
}

// freeAddress is one of the segment that nobody has, with the mask that its other machines use: the endpoint's own may be what is wrong.
func (s *Scenario) freeAddress(p *Port, last int) (netip.Prefix, bool) {
	var of netip.Prefix
	taken := map[netip.Addr]bool{}
	for _, name := range s.Site.NodeNames() {
		for _, other := range s.Site.Nodes[name].Ports {
			for _, a := range other.Addresses {
				taken[a.Addr()] = true
				if name != s.Site.Endpoint && other.Segment == p.Segment && a.Addr().Is4() && a.Bits() <= 24 {
					of = a
				}
			}
		}
	}
	if !of.IsValid() || p.Segment == "" {
		return of, false
	}
	octets := of.Addr().As4()
	octets[3] = byte(last)
	a := netip.AddrFrom4(octets)
	return netip.PrefixFrom(a, of.Bits()), !taken[a]
}

// ration makes machines answer echo requests seldom: a few at once, and from then on a few a second.
func (s *Scenario) ration(r *rand.Rand, which func(*Node) bool) (changed bool) {
	for _, name := range s.Site.NodeNames() {
		if n := s.Site.Nodes[name]; name != s.Site.Endpoint && which(n) && !n.NoEcho && n.Echoes == nil {
			n.Echoes, changed = &Ration{PerMinute: 60 * (1 + r.IntN(5)), Burst: 3 + r.IntN(5)}, true
		}
	}
	return changed
}
