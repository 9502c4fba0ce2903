package simulated

import (
	"net"
	"net/netip"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"

	"passepartout/internal/core/dhcp"
	"passepartout/internal/core/endpoint"
	"passepartout/internal/machine/wire"
	"passepartout/internal/scenario"
)

// serveDHCP answers discovers and requests on a port, frame by frame, as a server does that must reach clients without an address.
func serveDHCP(n *node, p *port, site *scenario.Site) (stop func()) {
	spec := n.spec().DHCP
	own := n.spec().Ports[p.name].Addresses[0].Addr()
	fixed := map[endpoint.HardwareAddr]netip.Addr{}
	for name, addr := range spec.Fixed {
		if spec.Exhausted {
			break
		}
		if known := site.Nodes[name]; known != nil {
			fixed[site.HardwareOf(name, known.PortNames()[0])] = addr
		}
	}
	ignored := map[endpoint.HardwareAddr]bool{}
	for _, name := range spec.Ignores {
		if known := site.Nodes[name]; known != nil {
			ignored[site.HardwareOf(name, known.PortNames()[0])] = true
		}
	}
	return p.listen(func(frame []byte) {
		f, ok := wire.ParseFrame(frame)
		if !ok || f.Proto != "udp" || f.To.Port() != dhcp.ServerPort {
			return
		}
		if v, ok := look(frame); ok {
			if _, hit := match(n.spec().Filter, "in", v); hit {
				return
			}
		}
		q, err := dhcpv4.FromBytes(f.Payload)
		if err != nil || q.OpCode != dhcpv4.OpcodeBootRequest {
			return
		}
		hw, ok := endpoint.HardwareFrom(q.ClientHWAddr)
		if !ok || ignored[hw] {
			return
		}
		address, known := fixed[hw]
		if !known {
			address = spec.First
		}
		kind := dhcpv4.MessageTypeOffer
		switch q.MessageType() {
		case dhcpv4.MessageTypeDiscover:
			if spec.Exhausted && !known {
				return // it has nothing to offer, and keeps silent (RFC 2131 §4.3.1)
			}
		case dhcpv4.MessageTypeRequest:
			kind = dhcpv4.MessageTypeAck
			if chosen := q.ServerIdentifier(); chosen != nil && !chosen.Equal(own.AsSlice()) {
				return // another server's
			}
			if wanted := q.RequestedIPAddress(); wanted != nil && !wanted.Equal(address.AsSlice()) || spec.Exhausted && !known {
				kind = dhcpv4.MessageTypeNak
			}
		case dhcpv4.MessageTypeInform:
			kind = dhcpv4.MessageTypeAck
		default:
			return
		}
		options := []dhcpv4.Modifier{dhcpv4.WithMessageType(kind), dhcpv4.WithOption(dhcpv4.OptServerIdentifier(own.AsSlice()))}
		if q.MessageType() == dhcpv4.MessageTypeInform {
			// answered where it came from, with neither address nor lease (RFC 2131 §4.3.5)
			address, _ = netip.AddrFromSlice(q.ClientIPAddr.To4())
		} else if kind != dhcpv4.MessageTypeNak {
			options = append(options, dhcpv4.WithYourIP(address.AsSlice()), dhcpv4.WithServerIP(own.AsSlice()),
				dhcpv4.WithOption(dhcpv4.OptIPAddressLeaseTime(time.Duration(spec.Lease))))
		}
		if kind != dhcpv4.MessageTypeNak {
			options = append(options, dhcpv4.WithOption(dhcpv4.OptSubnetMask(net.CIDRMask(spec.Bits, 32))),
				dhcpv4.WithOption(dhcpv4.OptRouter(ips(spec.Routers)...)), dhcpv4.WithOption(dhcpv4.OptDNS(ips(spec.Resolvers)...)),
				dhcpv4.WithOption(dhcpv4.OptDomainName(spec.Domain)))
			for code, text := range map[dhcpv4.GenericOptionCode]string{dhcp.OptCaptivePortal: spec.Portal,
				dhcp.OptProxyConfig: spec.ProxyFile} {
				if text != "" {
					options = append(options, dhcpv4.WithOption(dhcpv4.OptGeneric(code, []byte(text))))
				}
			}
		}
		reply, err := dhcpv4.NewReplyFromRequest(q, options...)
		if err != nil {
			return
		}
		to, dst := hw, address
		if q.IsBroadcast() || kind == dhcpv4.MessageTypeNak { // a refusal goes to everybody (RFC 2131 §4.3.2)
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
