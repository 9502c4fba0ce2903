package simulated

import (
	"net"
	"net/netip"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/machine/wire"
	"passepartout/internal/scenario"
)

// serveDHCP answers discovers and requests on a port, frame by frame, as a server does that must reach clients without an address.
func serveDHCP(n *node, p *port, site *scenario.Site) (stop func()) {
	spec := n.spec.DHCP
	own := n.spec.Ports[p.name].Addresses[0].Addr()
	fixed := map[endpoint.HardwareAddr]netip.Addr{}
	for name, addr := range spec.Fixed {
		if known := site.Nodes[name]; known != nil {
			fixed[scenario.Hardware(name, known.PortNames()[0])] = addr
		}
	}
	return p.listen(func(frame []byte) {
		f, ok := wire.ParseFrame(frame)
		if !ok || f.Proto != "udp" || f.To.Port() != 67 {
			return
		}
		if v, ok := look(frame); ok {
			if _, hit := match(n.spec.Filter, "in", v); hit {
				return
			}
		}
		q, err := dhcpv4.FromBytes(f.Payload)
		if err != nil || q.OpCode != dhcpv4.OpcodeBootRequest {
			return
		}
		hw, ok := endpoint.HardwareFrom(q.ClientHWAddr)
		if !ok {
			return
		}
		kind := dhcpv4.MessageTypeOffer
		switch q.MessageType() {
		case dhcpv4.MessageTypeDiscover:
		case dhcpv4.MessageTypeRequest:
			kind = dhcpv4.MessageTypeAck
		default:
			return
		}
		address, known := fixed[hw]
		if !known {
			address = spec.First
		}
		reply, err := dhcpv4.NewReplyFromRequest(q,
			dhcpv4.WithMessageType(kind), dhcpv4.WithYourIP(address.AsSlice()), dhcpv4.WithServerIP(own.AsSlice()),
			dhcpv4.WithOption(dhcpv4.OptServerIdentifier(own.AsSlice())),
			dhcpv4.WithOption(dhcpv4.OptSubnetMask(net.CIDRMask(spec.Bits, 32))),
			dhcpv4.WithOption(dhcpv4.OptIPAddressLeaseTime(time.Duration(spec.Lease))),
			dhcpv4.WithOption(dhcpv4.OptRouter(ips(spec.Routers)...)), dhcpv4.WithOption(dhcpv4.OptDNS(ips(spec.Resolvers)...)),
			dhcpv4.WithOption(dhcpv4.OptDomainName(spec.Domain)))
		if err != nil {
			return
		}
		to, dst := hw, address
		if q.IsBroadcast() {
			to, dst = wire.Broadcast, netip.AddrFrom4([4]byte{255, 255, 255, 255})
		}
		answer := wire.UDPFrame(p.hw, to, netip.AddrPortFrom(own, 67), netip.AddrPortFrom(dst, 68), reply.ToBytes())
		if spec.Slow == 0 {
			p.transmit(answer)
			return
		}
		p.transmit(wire.ARPRequest(p.hw, own, address)) // the test of the address (RFC 2131 §2.2)
		time.AfterFunc(time.Duration(spec.Slow), func() { p.transmit(answer) })
	})
}

func ips(addrs []netip.Addr) []net.IP {
	out := make([]net.IP, len(addrs))
	for i, a := range addrs {
		out[i] = a.AsSlice()
	}
	return out
}
