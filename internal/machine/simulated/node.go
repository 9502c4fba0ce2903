package simulated

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/time/rate"
	"gvisor.dev/gvisor/pkg/tcpip"
	"gvisor.dev/gvisor/pkg/tcpip/header"
	"gvisor.dev/gvisor/pkg/tcpip/link/ethernet"
	"gvisor.dev/gvisor/pkg/tcpip/network/arp"
	"gvisor.dev/gvisor/pkg/tcpip/network/ipv4"
	"gvisor.dev/gvisor/pkg/tcpip/network/ipv6"
	"gvisor.dev/gvisor/pkg/tcpip/stack"
	"gvisor.dev/gvisor/pkg/tcpip/transport/icmp"
	"gvisor.dev/gvisor/pkg/tcpip/transport/tcp"
	"gvisor.dev/gvisor/pkg/tcpip/transport/udp"

	"passepartout/internal/scenario"
)

// node is one machine of the site: a whole userspace TCP/IP stack with its ports.
type node struct {
	name   string
	lock   sync.Mutex                          // of whoever changes it
	now    atomic.Pointer[scenario.Node]       // as it is at present: a timeline may change it
	held   atomic.Pointer[map[netip.Addr]bool] // its own addresses
	stack  *stack.Stack
	ports  []*port
	lo     *loopback
	speak  *rate.Limiter // how often it says that a hop limit ran out; nil: always
	unsent atomic.Int64  // segments of TCP that its own filter has swallowed
	echo   *rate.Limiter // how often it answers echo requests; nil: always
}

// spec is the node as it is at present.
func (n *node) spec() *scenario.Node { return n.now.Load() }

// owns reports whether an address is one of the node's own at present.
func (n *node) owns(a netip.Addr) bool { return (*n.held.Load())[a] }

func newNode(name string, s *scenario.Scenario, segments map[string]*segment, began time.Time) (*node, error) {
	spec := s.Site.Nodes[name]
	n := &node{name: name}
	n.now.Store(spec)
	own := map[netip.Addr]bool{}
	n.held.Store(&own)
	n.speak, n.echo = rationed(spec.Expiries), rationed(spec.Echoes)
	n.stack = stack.New(stack.Options{
		NetworkProtocols:   []stack.NetworkProtocolFactory{ipv4.NewProtocol, ipv6.NewProtocol, arp.NewProtocol},
		TransportProtocols: []stack.TransportProtocolFactory{icmp.NewProtocol4, icmp.NewProtocol6, tcp.NewProtocol, udp.NewProtocol},
	})
	n.stack.SetICMPLimit(rate.Inf)
	n.lo = &loopback{port{node: n, name: "lo", id: 1, unplugged: func() bool { return false }}}
	if err := n.stack.CreateNICWithOptions(1, n.lo, stack.NICOptions{Name: "lo"}); err != nil {
		return nil, fmt.Errorf("%s: lo: %s", name, err)
	}
	var routes []tcpip.Route
	add := func(nic tcpip.NICID, p netip.Prefix) error {
		own[p.Addr()] = true
		address := tcpip.ProtocolAddress{Protocol: protoOf(p.Addr()),
			AddressWithPrefix: tcpip.AddressWithPrefix{Address: toTCPIP(p.Addr()), PrefixLen: p.Bits()}}
		if err := n.stack.AddProtocolAddress(nic, address, stack.AddressProperties{}); err != nil {
			return fmt.Errorf("%s: address %v: %s", name, p, err)
		}
		routes = append(routes, tcpip.Route{Destination: address.AddressWithPrefix.Subnet(), NIC: nic})
		return nil
	}
	loopbacks := []netip.Prefix{netip.MustParsePrefix("127.0.0.1/8"), netip.MustParsePrefix("::1/128")}
	for _, r := range spec.Resolvers { // all of 127.0.0.0/8 is the machine itself
		if x := netip.PrefixFrom(r, 8); r.Is4() && r.IsLoopback() && !slices.Contains(loopbacks, x) {
			loopbacks = append(loopbacks, x)
		}
	}
	for _, p := range loopbacks {
		if err := add(1, p); err != nil {
			return nil, err
		}
	}
	for i, portName := range spec.PortNames() {
		ps := spec.Ports[portName]
		p := &port{node: n, name: portName, id: tcpip.NICID(i + 2), hw: s.Site.HardwareOf(name, portName), segment: segments[ps.Segment],
			began: began,
			unplugged: func() bool {
				return ps.Unplugged || ps.Bridge || s.Timeline.Unplugged(name, portName, time.Since(began))
			}}
		p.mtu.Store(int64(cmp.Or(ps.MTU, 1500)))
		p.down.Store(ps.Down)
		p.leaseLeft.Store(int64(s.Site.LeaseLeft(ps)))
		if err := n.stack.CreateNICWithOptions(p.id, ethernet.New(p), stack.NICOptions{Name: portName, Disabled: ps.Down}); err != nil {
			return nil, fmt.Errorf("%s: %s: %s", name, portName, err)
		}
		if p.segment != nil { // a tunnel or an empty bridge has none
			p.segment.attach(p)
		}
		n.ports = append(n.ports, p)
		if ps.Down { // a port that is down has no routes, and its addresses answer nobody
			continue
		}
		for _, prefix := range ps.Addresses {
			if s.Site.Duplicate(name, portName, prefix.Addr()) {
				p.duplicates = append(p.duplicates, prefix.Addr())
				continue
			}
			if err := add(p.id, prefix); err != nil {
				return nil, err
			}
			p.has = append(p.has, prefix)
		}
	}
	n.setRoutes(routes)
	if err := n.remember(s.Site); err != nil {
		return nil, err
	}
	n.capture()
	if spec.Forwards {
		for _, proto := range []tcpip.NetworkProtocolNumber{ipv4.ProtocolNumber, ipv6.ProtocolNumber} {
			if err := n.stack.SetForwardingDefaultAndAllNICs(proto, true); err != nil {
				return nil, fmt.Errorf("%s: forwarding: %s", name, err)
			}
		}
	}
	return n, nil
}

func rationed(r *scenario.Ration) *rate.Limiter {
	if r == nil {
		return nil
	}
	return rate.NewLimiter(rate.Limit(float64(r.PerMinute)/60), r.Burst)
}

// setRoutes sets the routes that follow from the node's addresses, and those that it has besides. What a rule has looked up in a table of
// its own comes first.
func (n *node) setRoutes(own []tcpip.Route) {
	var ruled []tcpip.Route
	rest := append(own, n.farRoutes(0)...)
	for _, rule := range n.spec().Rules {
		if !rule.Applies(n.spec()) {
			continue
		}
		for _, r := range longestFirst(n.farRoutes(rule.Table)) {
			if to := rule.To.Masked(); rule.To.IsValid() && to.Bits() > r.Destination.Prefix() {
				r.Destination = tcpip.AddressWithPrefix{Address: toTCPIP(to.Addr()), PrefixLen: to.Bits()}.Subnet()
			}
			ruled = append(ruled, r)
			for _, x := range rest { // the stack takes what is more specific, of whichever table
				to, all := x.Destination.ID(), r.Destination
				if all.Prefix() == 0 && to.BitLen() == all.ID().BitLen() && !header.IsV4LoopbackAddress(to) && to != header.IPv6Loopback {
					r.Destination = x.Destination
					ruled = append(ruled, r)
					r.Destination = all
				}
			}
		}
	}
	n.stack.SetRouteTable(append(ruled, longestFirst(rest)...))
}

// farRoutes are the routes that the node has in a table besides those that follow from its addresses.
func (n *node) farRoutes(table int) (routes []tcpip.Route) {
	spec := n.spec()
	for _, r := range slices.SortedStableFunc(slices.Values(spec.Routes), func(a, b scenario.Route) int { return a.Metric - b.Metric }) {
		p, ok := n.portFor(r)
		if !ok || p.down.Load() || r.Refuse != "" || r.Table != table {
			continue
		}
		if spec.Ports[p.name].Tunnel { // nobody is asked for hardware addresses in a tunnel
			_ = n.stack.AddStaticNeighbor(p.id, protoOf(r.Via), toTCPIP(r.Via), p.LinkAddress())
		}
		subnet := tcpip.AddressWithPrefix{Address: toTCPIP(r.To.Masked().Addr()), PrefixLen: r.To.Bits()}.Subnet()
		routes = append(routes,
			tcpip.Route{Destination: subnet, Gateway: toTCPIP(r.Via), NIC: p.id, SourceHint: sourceFor(spec.Ports[p.name], r)})
	}
	return routes
}

// sourceFor is the address of a port from which a kernel speaks by way of a next hop: the one in whose network that lies. Without a hint,
// the simulated stack takes the one that is most like the destination.
func sourceFor(p *scenario.Port, r scenario.Route) (hint tcpip.Address) {
	if r.Source.IsValid() {
		return toTCPIP(r.Source)
	}
	for _, a := range p.Addresses {
		if a.Masked().Contains(r.Via) {
			return toTCPIP(a.Addr())
		}
	}
	return hint
}

// remember puts the entries into the neighbour tables that the scenario wants there from the start.
func (n *node) remember(site *scenario.Site) error {
	for _, e := range n.spec().Neighbours {
		hw := site.FirstHardware(e.Of)
		for _, p := range n.ports {
			if !n.near(p, e.Address) {
				continue
			}
			if err := n.stack.AddStaticNeighbor(p.id, protoOf(e.Address), toTCPIP(e.Address), tcpip.LinkAddress(hw[:])); err != nil {
				return fmt.Errorf("%s: neighbour %v: %s", n.name, e.Address, err)
			}
		}
	}
	return nil
}

func (n *node) near(p *port, a netip.Addr) bool {
	return slices.ContainsFunc(n.spec().Ports[p.name].Addresses, func(own netip.Prefix) bool { return own.Masked().Contains(a) })
}

// portFor finds the port through which a route's gateway is reached.
func (n *node) portFor(r scenario.Route) (*port, bool) {
	for _, p := range n.ports {
		if r.Port == p.name {
			return p, true
		}
		for _, prefix := range n.spec().Ports[p.name].Addresses {
			if r.Port == "" && prefix.Masked().Contains(r.Via) {
				return p, true
			}
		}
	}
	return nil, false
}

// admit decides over a frame that arrived: the node's filter, its will to answer echo, and the hop limit of what it should forward.
func (n *node) admit(p *port, frame []byte) ([]byte, bool) {
	v, ok := look(frame)
	if !ok {
		return frame, true
	}
	forMe := n.owns(v.dst) || frame[0]&1 == 1 || v.dst.IsMulticast()
	if forMe && v.echoRequest && (n.spec().NoEcho || n.echo != nil && !n.echo.Allow()) {
		return nil, false
	}
	chain := "in"
	if !forMe {
		if chain = "forward"; !n.spec().Forwards {
			return nil, false
		}
		if n.captures(p, v) {
			return frame, true
		}
		if v.hopLimit <= 1 {
			if n.spec().NoExpiry || n.speak != nil && !n.speak.Allow() {
				return nil, false
			}
			if !v.v6 {
				// gVisor lets a packet with a TTL of 1 pass and answers one with 0: so it is made 0 here.
				frame = append([]byte(nil), frame...)
				ip := header.IPv4(frame[ethernetHeader:])
				ip.SetTTL(0)
				ip.SetChecksum(0)
				ip.SetChecksum(^ip.CalculateChecksum())
			}
			return frame, true
		}
	}
	rule, hit := match(n.spec().Filter, chain, v)
	if !hit {
		return frame, forMe || !n.passOn(frame, v)
	}
	if rule.Action != "drop" {
		n.complain(p, frame, v, rule.Action)
	}
	return nil, false
}

// release decides over a frame that the node itself sends or forwards.
func (n *node) release(frame []byte) bool {
	v, ok := look(frame)
	if !ok || !n.owns(v.src) {
		return true
	}
	_, hit := match(n.spec().Filter, "out", v)
	if hit && v.proto == "tcp" {
		n.unsent.Add(1)
	}
	return !hit
}

// forbids reports whether the node's own filter refuses to send this: the system then says so to the program (EPERM), for all but TCP,
// which takes it for a loss.
func (n *node) forbids(proto string, to netip.AddrPort) bool {
	_, hit := match(n.spec().Filter, "out", view{proto: proto, dst: to.Addr(), dstPort: to.Port()})
	return hit && proto != "tcp"
}

func match(rules []scenario.Rule, chain string, v view) (scenario.Rule, bool) {
	for _, r := range rules {
		if r.Chain == chain && (r.Proto == "" || r.Proto == v.proto) && (!r.To.IsValid() || r.To.Masked().Contains(v.dst)) &&
			(!r.From.IsValid() || r.From.Masked().Contains(v.src)) && (r.Port == 0 || r.Port == v.dstPort) {
			return r, true
		}
	}
	return scenario.Rule{}, false
}

func (n *node) close() {
	n.stack.Close()
}
