package simulated

import (
	"fmt"
	"net/netip"
	"slices"

	"gvisor.dev/gvisor/pkg/buffer"
	"gvisor.dev/gvisor/pkg/tcpip"
	"gvisor.dev/gvisor/pkg/tcpip/checksum"
	"gvisor.dev/gvisor/pkg/tcpip/header"
	"gvisor.dev/gvisor/pkg/tcpip/stack"

	"passepartout/internal/machine"
)

// view is what a filter wants to know of a frame.
type view struct {
	v6          bool
	src, dst    netip.Addr
	hopLimit    int
	proto       string
	srcPort     uint16
	dstPort     uint16
	echoRequest bool
}

// look reads a frame's IP and transport headers; false for anything that is not IP.
func look(frame []byte) (v view, ok bool) {
	if len(frame) < ethernetHeader {
		return v, false
	}
	rest := frame[ethernetHeader:]
	var transport []byte
	var number uint8
	switch tcpip.NetworkProtocolNumber(uint16(frame[12])<<8 | uint16(frame[13])) {
	case header.IPv4ProtocolNumber:
		ip := header.IPv4(rest)
		if !ip.IsValid(len(rest)) {
			return v, false
		}
		v.src, v.dst, v.hopLimit = fromTCPIP(ip.SourceAddress()), fromTCPIP(ip.DestinationAddress()), int(ip.TTL())
		transport, number = ip.Payload(), ip.Protocol()
	case header.IPv6ProtocolNumber:
		ip := header.IPv6(rest)
		if !ip.IsValid(len(rest)) {
			return v, false
		}
		v.v6 = true
		v.src, v.dst, v.hopLimit = fromTCPIP(ip.SourceAddress()), fromTCPIP(ip.DestinationAddress()), int(ip.HopLimit())
		transport, number = ip.Payload(), ip.NextHeader()
	default:
		return v, false
	}
	switch tcpip.TransportProtocolNumber(number) {
	case header.TCPProtocolNumber, header.UDPProtocolNumber:
		v.proto = "udp"
		if tcpip.TransportProtocolNumber(number) == header.TCPProtocolNumber {
			v.proto = "tcp"
		}
		if len(transport) >= 4 {
			v.srcPort = uint16(transport[0])<<8 | uint16(transport[1])
			v.dstPort = uint16(transport[2])<<8 | uint16(transport[3])
		}
	case header.ICMPv4ProtocolNumber, header.ICMPv6ProtocolNumber:
		v.proto = "icmp"
		v.echoRequest = len(transport) > 0 &&
			(!v.v6 && transport[0] == byte(header.ICMPv4Echo) || v.v6 && transport[0] == byte(header.ICMPv6EchoRequest))
	}
	return v, true
}

// complain sends the ICMP error that a router's filter sends in place of a packet that it refuses.
func (n *node) complain(p *port, frame []byte, v view, action string) {
	type pair struct{ v4, v6 uint8 }
	code := map[string]pair{"prohibit": {13, 1}, "no-host": {1, 3}, "no-net": {0, 0}}[action]
	quote := frame[ethernetHeader:]
	if len(quote) > 128 {
		quote = quote[:128]
	}
	message := make([]byte, 8+len(quote))
	copy(message[8:], quote)
	proto := header.ICMPv4ProtocolNumber
	if v.v6 {
		proto = header.ICMPv6ProtocolNumber
		message[0], message[1] = byte(header.ICMPv6DstUnreachable), code.v6
	} else {
		message[0], message[1] = byte(header.ICMPv4DstUnreachable), code.v4
	}
	_ = n.sendICMP(v.src, proto, message, 64, p.id, false)
}

// sendICMP sends an ICMP message by the node's own routing, resolving the next hop as any packet does. nic 0 leaves the choice to the
// routes.
func (n *node) sendICMP(to netip.Addr, proto tcpip.TransportProtocolNumber, message []byte, hopLimit int, nic tcpip.NICID,
	whole bool) tcpip.Error {
	route, err := n.stack.FindRoute(nic, tcpip.Address{}, toTCPIP(to), protoOf(to), false)
	if err != nil {
		return err
	}
	defer route.Release()
	if whole && !n.fitsOn(route, len(message)) { // gVisor would split it all the same
		return &tcpip.ErrMessageTooLong{}
	}
	sum := uint16(0)
	if proto == header.ICMPv6ProtocolNumber {
		sum = header.PseudoHeaderChecksum(proto, route.LocalAddress(), route.RemoteAddress(), uint16(len(message)))
	}
	message[2], message[3] = 0, 0
	sum = ^checksum.Checksum(message, sum)
	message[2], message[3] = byte(sum>>8), byte(sum)
	return write(route, proto, message, hopLimit, whole)
}

// fits reports whether a message to an address goes out of its port in one packet.
func (n *node) fits(to netip.Addr, size int) bool {
	route, err := n.stack.FindRoute(0, tcpip.Address{}, toTCPIP(to), protoOf(to), false)
	if err != nil {
		return true // sending says what is wrong
	}
	defer route.Release()
	return n.fitsOn(route, size)
}

func (n *node) fitsOn(route *stack.Route, size int) bool {
	size += header.IPv4MinimumSize
	if route.NetProto() == header.IPv6ProtocolNumber {
		size += header.IPv6MinimumSize - header.IPv4MinimumSize
	}
	for _, p := range n.ports {
		if p.id == route.NICID() {
			return size <= int(p.mtu.Load())
		}
	}
	return true // loopback
}

func write(route *stack.Route, proto tcpip.TransportProtocolNumber, message []byte, hopLimit int, whole bool) tcpip.Error {
	pkt := stack.NewPacketBuffer(
		stack.PacketBufferOptions{ReserveHeaderBytes: int(route.MaxHeaderLength()), Payload: buffer.MakeWithData(message)})
	defer pkt.DecRef()
	return route.WritePacket(stack.NetworkHeaderParams{Protocol: proto, TTL: uint8(hopLimit), DF: whole}, pkt)
}

// outcomeOfSend turns gVisor's refusal to send into a reply; nil for success.
func outcomeOfSend(err tcpip.Error) error {
	switch err.(type) {
	case nil:
		return nil
	case *tcpip.ErrHostUnreachable, *tcpip.ErrNetworkUnreachable, *tcpip.ErrBadLocalAddress:
		return errNoRoute
	case *tcpip.ErrMessageTooLong:
		return errTooLong
	}
	return stackError{err.String()}
}

var errTooLong = fmt.Errorf("simulated: %w", machine.ErrTooLong)

type stackError struct{ msg string }

func (e stackError) Error() string { return e.msg }

func toTCPIP(a netip.Addr) tcpip.Address {
	if !a.IsValid() {
		return tcpip.Address{}
	}
	return tcpip.AddrFromSlice(a.AsSlice())
}

func fromTCPIP(a tcpip.Address) netip.Addr {
	out, _ := netip.AddrFromSlice(a.AsSlice())
	return out.Unmap()
}

func protoOf(a netip.Addr) tcpip.NetworkProtocolNumber {
	if a.Is6() {
		return header.IPv6ProtocolNumber
	}
	return header.IPv4ProtocolNumber
}

// longestFirst orders routes as a kernel chooses them: gVisor takes the first that fits.
func longestFirst(routes []tcpip.Route) []tcpip.Route {
	slices.SortStableFunc(routes, func(a, b tcpip.Route) int { return b.Destination.Prefix() - a.Destination.Prefix() })
	return routes
}
