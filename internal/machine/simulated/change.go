package simulated

import (
	"net/netip"
	"slices"
	"time"

	"gvisor.dev/gvisor/pkg/tcpip"
	"gvisor.dev/gvisor/pkg/tcpip/stack"

	"passepartout/internal/scenario"
)

// followTimeline changes nodes when the timeline says so.
func (s *Site) followTimeline(sc *scenario.Scenario) {
	changing := sc.Timeline.Changing()
	if len(changing) == 0 {
		return
	}
	done := make(chan struct{})
	s.closers = append(s.closers, func() { close(done) })
	go func() {
		for {
			next, more := sc.Timeline.Next(time.Since(s.Began))
			if !more {
				return
			}
			select {
			case <-done:
				return
			case <-time.After(time.Until(s.Began.Add(next))):
			}
			site := sc.SiteAt(time.Since(s.Began))
			for _, name := range changing {
				n := s.nodes[name]
				if n == nil {
					continue
				}
				if n != s.endpoint.node {
					n.become(site.Nodes[name])
				} else {
					s.endpoint.become(site.Nodes[name])
					file := site.LeaseFile(name, s.Began)
					s.endpoint.leaseFile.Store(&file)
					for _, p := range n.ports {
						p.leaseLeft.Store(int64(site.LeaseLeft(site.Nodes[name].Ports[p.name])))
					}
				}
			}
			s.endpoint.notify()
		}
	}()
}

// become changes the node: its rules, addresses, routes, files. What it serves stays.
func (n *node) become(spec *scenario.Node) {
	n.lock.Lock()
	defer n.lock.Unlock()
	if n.spec() != spec {
		n.take(spec)
	}
}

// take makes the node what a description of it says, wherever that is not so yet. Whoever calls it holds the node's lock.
func (n *node) take(spec *scenario.Node) {
	n.now.Store(spec)
	own := map[netip.Addr]bool{netip.MustParseAddr("127.0.0.1"): true, netip.IPv6Loopback(): true}
	var routes []tcpip.Route
	for _, p := range []string{"127.0.0.0/8", "::1/128"} {
		prefix := netip.MustParsePrefix(p)
		subnet := tcpip.AddressWithPrefix{Address: toTCPIP(prefix.Addr()), PrefixLen: prefix.Bits()}.Subnet()
		routes = append(routes, tcpip.Route{Destination: subnet, NIC: 1})
	}
	for _, p := range n.ports {
		var uses []netip.Prefix
		for _, a := range spec.Ports[p.name].Addresses {
			if !p.down.Load() && !slices.Contains(p.duplicates, a.Addr()) {
				uses = append(uses, a)
			}
		}
		for _, a := range p.has {
			if !slices.Contains(uses, a) {
				_ = n.stack.RemoveAddress(p.id, toTCPIP(a.Addr()))
			}
		}
		for _, a := range uses {
			address := tcpip.ProtocolAddress{Protocol: protoOf(a.Addr()),
				AddressWithPrefix: tcpip.AddressWithPrefix{Address: toTCPIP(a.Addr()), PrefixLen: a.Bits()}}
			if !slices.Contains(p.has, a) {
				_ = n.stack.AddProtocolAddress(p.id, address, stack.AddressProperties{})
			}
			own[a.Addr()] = true
			routes = append(routes, tcpip.Route{Destination: address.AddressWithPrefix.Subnet(), NIC: p.id})
		}
		p.has = uses
	}
	n.held.Store(&own)
	n.setRoutes(routes)
}

// notify tells whoever watches the machine that something has changed.
func (m *endpointMachine) notify() {
	m.mu.Lock()
	defer m.mu.Unlock()
	for c := range m.watching {
		select {
		case c <- struct{}{}:
		default:
		}
	}
}

// SwitchPort takes one of the endpoint's interfaces down, or up again, as an administrator does. Its addresses and routes are there again
// when it is up.
func (s *Site) SwitchPort(name string, up bool) {
	for _, p := range s.endpoint.node.ports {
		if p.name == name {
			p.turn(up)
		}
	}
	s.endpoint.notify()
}

// turn switches a port on or off.
func (p *port) turn(up bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.down.Store(!up)
	if !up && p.downed != nil {
		close(p.downed)
		p.downed = nil
	}
}

// untilDown is closed when the interface goes down.
func (p *port) untilDown() <-chan struct{} {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.downed == nil {
		p.downed = make(chan struct{})
	}
	return p.downed
}
