package simulated

import (
	"hash/fnv"
	"net/netip"

	"gvisor.dev/gvisor/pkg/tcpip/header"

	"passepartout/internal/scenario"
)

// balance forwards a frame for which there are two next hops, which gVisor cannot; false leaves the frame to gVisor. The choice is by addresses,
// and by ports for UDP and TCP, as a kernel with fib_multipath_hash_policy=1 makes it.
func (n *node) balance(frame []byte, v view) bool {
	best := scenario.Route{}
	for _, r := range n.spec.Routes {
		if r.To.Masked().Contains(v.dst) && (!best.Via.IsValid() || r.To.Bits() > best.To.Bits()) {
			best = r
		}
	}
	if !best.Or.IsValid() || v.v6 {
		return false
	}
	via := best.Via
	if h := fnv.New32a(); true {
		h.Write(v.src.AsSlice())
		h.Write(v.dst.AsSlice())
		if v.proto == "udp" || v.proto == "tcp" {
			h.Write([]byte{byte(v.srcPort >> 8), byte(v.srcPort), byte(v.dstPort >> 8), byte(v.dstPort)})
		}
		if sum := h.Sum32(); (sum^sum>>16)&1 == 1 {
			via = best.Or
		}
	}
	out, next := n.neighbour(via)
	if out == nil {
		return true // nobody there: lost
	}
	copied := append([]byte(nil), frame...)
	copy(copied[:6], next.hw[:])
	copy(copied[6:12], out.hw[:])
	ip := header.IPv4(copied[ethernetHeader:])
	ip.SetTTL(ip.TTL() - 1)
	ip.SetChecksum(0)
	ip.SetChecksum(^ip.CalculateChecksum())
	out.transmit(copied)
	return true
}

// neighbour finds the port of another node that has an address, and the own port on the same segment.
func (n *node) neighbour(a netip.Addr) (own, other *port) {
	for _, p := range n.ports {
		p.segment.mu.Lock()
		ports := p.segment.ports
		p.segment.mu.Unlock()
		for _, q := range ports {
			if q.node != n && q.node.own[a] && !q.dead() {
				return p, q
			}
		}
	}
	return nil, nil
}
