package simulated

import (
	"hash/fnv"
	"net/netip"

	"gvisor.dev/gvisor/pkg/tcpip/header"
	"gvisor.dev/gvisor/pkg/tcpip/stack"
)

// passOn passes a frame on as a router does, when it is plain: there is a way, the packet fits the port, and the next hop's hardware
// address is known. False leaves it to gVisor, which asks for the address, says "too big", or says that there is no way. Besides being
// quicker, this is what chooses between two next hops, which gVisor cannot: by addresses, and by ports for UDP and TCP, as a kernel with
// fib_multipath_hash_policy=1 does.
func (n *node) passOn(frame []byte, v view) bool {
	if !v.dst.IsGlobalUnicast() || v.src.IsLinkLocalUnicast() {
		return false
	}
	next, out := n.nextHop(v)
	if out == nil || out.down.Load() || len(frame)-ethernetHeader > int(out.mtu.Load()) {
		return false
	}
	hw, ok := n.hardwareOf(out, next)
	if !ok {
		return false
	}
	copied := append([]byte(nil), frame...)
	copy(copied[:6], hw)
	copy(copied[6:12], out.hw[:])
	if v.v6 {
		ip := header.IPv6(copied[ethernetHeader:])
		ip.SetHopLimit(ip.HopLimit() - 1)
	} else {
		ip := header.IPv4(copied[ethernetHeader:])
		ip.SetTTL(ip.TTL() - 1)
		ip.SetChecksum(0)
		ip.SetChecksum(^ip.CalculateChecksum())
	}
	out.transmit(copied)
	return true
}

// nextHop finds the most specific way: a port's own prefix, or a route.
func (n *node) nextHop(v view) (next netip.Addr, out *port) {
	best := -1
	for _, p := range n.ports {
		for _, a := range n.spec().Ports[p.name].Addresses {
			if a.Masked().Contains(v.dst) && a.Bits() > best {
				best, next, out = a.Bits(), v.dst, p
			}
		}
	}
	for _, r := range n.spec().Routes {
		if !r.To.Masked().Contains(v.dst) || r.To.Bits() <= best {
			continue
		}
		best, next, out = r.To.Bits(), netip.Addr{}, nil
		if p, ok := n.portFor(r); ok && r.Refuse == "" {
			next, out = r.Via, p
			if r.Or.IsValid() && v.oddFlow() {
				next = r.Or
			}
		}
	}
	return next, out
}

// oddFlow sorts flows into two halves.
func (v view) oddFlow() bool {
	h := fnv.New32a()
	h.Write(v.src.AsSlice())
	h.Write(v.dst.AsSlice())
	if v.proto == "udp" || v.proto == "tcp" {
		h.Write([]byte{byte(v.srcPort >> 8), byte(v.srcPort), byte(v.dstPort >> 8), byte(v.dstPort)})
	}
	sum := h.Sum32()
	return (sum^sum>>16)&1 == 1
}

// spread gives every second flow of the node's own to the second of two next hops, where a route has two: gVisor knows of the first alone.
func (n *node) spread(p *port, frame []byte) {
	for _, r := range n.spec().Routes {
		if !r.Or.IsValid() {
			continue
		}
		v, ok := look(frame)
		if !ok || !v.oddFlow() || !v.dst.IsGlobalUnicast() {
			continue
		}
		if next, out := n.nextHop(v); next != r.Or || out != p || p.segment == nil {
			continue
		}
		p.segment.mu.Lock()
		ports := p.segment.ports
		p.segment.mu.Unlock()
		for _, at := range ports {
			for _, a := range at.node.spec().Ports[at.name].Addresses {
				if a.Addr() == r.Or {
					copy(frame[:6], at.hw[:])
				}
			}
		}
	}
}

// hardwareOf looks an address up in the neighbour table of a port.
func (n *node) hardwareOf(p *port, a netip.Addr) (string, bool) {
	entries, err := n.stack.Neighbors(p.id, protoOf(a))
	if err != nil {
		return "", false
	}
	for _, e := range entries {
		if fromTCPIP(e.Addr) != a || len(e.LinkAddr) != 6 {
			continue
		}
		switch e.State {
		case stack.Reachable, stack.Stale, stack.Static, stack.Delay, stack.Probe:
			return string(e.LinkAddr), true
		}
	}
	return "", false
}
