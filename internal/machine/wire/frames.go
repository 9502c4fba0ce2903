package wire

import (
	"net"
	"net/netip"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"

	"passepartout/internal/core/endpoint"
)

// Broadcast is the hardware address of everybody on the segment.
var Broadcast = endpoint.HardwareAddr{0xff, 0xff, 0xff, 0xff, 0xff, 0xff}

func serialize(l ...gopacket.SerializableLayer) []byte {
	buf := gopacket.NewSerializeBuffer()
	if err := gopacket.SerializeLayers(buf, gopacket.SerializeOptions{FixLengths: true, ComputeChecksums: true}, l...); err != nil {
		panic(err) // layers of our own making
	}
	return append([]byte(nil), buf.Bytes()...)
}

// ARPRequest asks who has target. A sender address of zero makes it a probe that leaves no trace in anybody's table (RFC 5227 §1.1).
func ARPRequest(hw endpoint.HardwareAddr, sender, target netip.Addr) []byte {
	if !sender.IsValid() {
		sender = netip.IPv4Unspecified()
	}
	return serialize(
		&layers.Ethernet{SrcMAC: hw[:], DstMAC: Broadcast[:], EthernetType: layers.EthernetTypeARP},
		&layers.ARP{AddrType: layers.LinkTypeEthernet, Protocol: layers.EthernetTypeIPv4, HwAddressSize: 6, ProtAddressSize: 4,
			Operation:       layers.ARPRequest,
			SourceHwAddress: hw[:], SourceProtAddress: sender.AsSlice(), DstHwAddress: make([]byte, 6), DstProtAddress: target.AsSlice()})
}

// ARPReply tells one machine that an address is at a hardware address (RFC 826).
func ARPReply(hw endpoint.HardwareAddr, address netip.Addr, to endpoint.HardwareAddr, asker netip.Addr) []byte {
	return serialize(
		&layers.Ethernet{SrcMAC: hw[:], DstMAC: to[:], EthernetType: layers.EthernetTypeARP},
		&layers.ARP{AddrType: layers.LinkTypeEthernet, Protocol: layers.EthernetTypeIPv4, HwAddressSize: 6, ProtAddressSize: 4,
			Operation:       layers.ARPReply,
			SourceHwAddress: hw[:], SourceProtAddress: address.AsSlice(), DstHwAddress: to[:], DstProtAddress: asker.AsSlice()})
}

// NeighbourSolicitation asks who has target (RFC 4861 §4.3), addressed to its solicited-node group (RFC 4291 §2.7.1).
func NeighbourSolicitation(hw endpoint.HardwareAddr, sender, target netip.Addr) []byte {
	t := target.As16()
	group := netip.AddrFrom16([16]byte{0xff, 2, 11: 1, 12: 0xff, 13: t[13], 14: t[14], 15: t[15]})
	ip := &layers.IPv6{Version: 6, NextHeader: layers.IPProtocolICMPv6, HopLimit: 255, SrcIP: sender.AsSlice(), DstIP: group.AsSlice()}
	icmp := &layers.ICMPv6{TypeCode: layers.CreateICMPv6TypeCode(layers.ICMPv6TypeNeighborSolicitation, 0)}
	_ = icmp.SetNetworkLayerForChecksum(ip)
	ns := &layers.ICMPv6NeighborSolicitation{TargetAddress: target.AsSlice()}
	if !sender.IsUnspecified() {
		ns.Options = layers.ICMPv6Options{{Type: layers.ICMPv6OptSourceAddress, Data: hw[:]}}
	}
	return serialize(
		&layers.Ethernet{SrcMAC: hw[:], DstMAC: []byte{0x33, 0x33, 0xff, t[13], t[14], t[15]}, EthernetType: layers.EthernetTypeIPv6}, ip,
		icmp, ns)
}

// UDPFrame is a UDP datagram over IPv4 in an Ethernet frame.
func UDPFrame(from, to endpoint.HardwareAddr, src, dst netip.AddrPort, payload []byte) []byte {
	ip := &layers.IPv4{Version: 4, TTL: 64, Protocol: layers.IPProtocolUDP, SrcIP: src.Addr().AsSlice(), DstIP: dst.Addr().AsSlice()}
	udp := &layers.UDP{SrcPort: layers.UDPPort(src.Port()), DstPort: layers.UDPPort(dst.Port())}
	_ = udp.SetNetworkLayerForChecksum(ip)
	return serialize(&layers.Ethernet{SrcMAC: from[:], DstMAC: to[:], EthernetType: layers.EthernetTypeIPv4}, ip, udp,
		gopacket.Payload(payload))
}

// Frame is what is told of a frame: a claim to an address, or an IP packet.
type Frame struct {
	Source   endpoint.HardwareAddr
	Towards  endpoint.HardwareAddr // whom the frame is for: what a switch floods is for others too
	Claim    netip.Addr            // ARP sender, or target of a neighbour advertisement: "this address is mine"
	Hardware endpoint.HardwareAddr // the hardware address in the claim
	Asks     netip.Addr            // ARP or neighbour solicitation: the address that is asked for
	From, To netip.AddrPort        // of an IP packet; port 0 for other than TCP and UDP
	Proto    string                // "tcp", "udp", "icmp" or ""
	Payload  []byte                // of UDP
	Segment  []byte                // of TCP, its header included
}

// ParseFrame reads an Ethernet frame; false when it holds nothing of the above. Any input gives a value or false, never a panic.
// UDP checksums are not looked at: on the machine that sends, the port computes them after us.
func ParseFrame(frame []byte) (f Frame, ok bool) {
	p := gopacket.NewPacket(frame, layers.LayerTypeEthernet, gopacket.DecodeOptions{Lazy: true, NoCopy: true})
	eth, isEthernet := p.Layer(layers.LayerTypeEthernet).(*layers.Ethernet)
	if !isEthernet {
		return f, false
	}
	f.Source, _ = endpoint.HardwareFrom(eth.SrcMAC)
	f.Towards, _ = endpoint.HardwareFrom(eth.DstMAC)
	switch eth.EthernetType {
	case layers.EthernetTypeARP:
		arp, isARP := p.Layer(layers.LayerTypeARP).(*layers.ARP)
		if !isARP || len(arp.SourceProtAddress) != 4 || len(arp.DstProtAddress) != 4 {
			return f, false
		}
		if claim := addr(arp.SourceProtAddress); !claim.IsUnspecified() {
			f.Claim = claim
			f.Hardware, _ = endpoint.HardwareFrom(arp.SourceHwAddress)
		}
		if arp.Operation == layers.ARPRequest {
			f.Asks = addr(arp.DstProtAddress)
		}
		return f, true
	case layers.EthernetTypeIPv4, layers.EthernetTypeIPv6:
		return f, f.readIP(p)
	}
	return f, false
}

func (f *Frame) readIP(p gopacket.Packet) bool {
	var src, dst netip.Addr
	switch ip := p.NetworkLayer().(type) {
	case *layers.IPv4:
		src, dst = addr(ip.SrcIP), addr(ip.DstIP)
		if ip.Protocol == layers.IPProtocolICMPv4 {
			f.Proto = "icmp"
		}
	case *layers.IPv6:
		src, dst = addr(ip.SrcIP), addr(ip.DstIP)
		if ip.NextHeader == layers.IPProtocolICMPv6 {
			f.Proto = "icmp"
			f.readNeighbourDiscovery(p, src)
		}
	default:
		return false
	}
	f.From, f.To = netip.AddrPortFrom(src, 0), netip.AddrPortFrom(dst, 0)
	switch t := p.TransportLayer().(type) {
	case *layers.UDP:
		f.Proto, f.Payload = "udp", t.Payload
		f.From, f.To = netip.AddrPortFrom(src, uint16(t.SrcPort)), netip.AddrPortFrom(dst, uint16(t.DstPort))
	case *layers.TCP:
		f.Proto, f.Segment = "tcp", append(t.Contents[:len(t.Contents):len(t.Contents)], t.Payload...)
		f.From, f.To = netip.AddrPortFrom(src, uint16(t.SrcPort)), netip.AddrPortFrom(dst, uint16(t.DstPort))
	}
	return true
}

func (f *Frame) readNeighbourDiscovery(p gopacket.Packet, src netip.Addr) {
	if na, ok := p.Layer(layers.LayerTypeICMPv6NeighborAdvertisement).(*layers.ICMPv6NeighborAdvertisement); ok {
		f.Claim, f.Hardware = addr(na.TargetAddress), f.Source
		for _, o := range na.Options {
			if o.Type == layers.ICMPv6OptTargetAddress {
				if hw, six := endpoint.HardwareFrom(o.Data); six {
					f.Hardware = hw
				}
			}
		}
	}
	if ns, ok := p.Layer(layers.LayerTypeICMPv6NeighborSolicitation).(*layers.ICMPv6NeighborSolicitation); ok {
		f.Asks = addr(ns.TargetAddress)
		if !src.IsUnspecified() {
			f.Claim, f.Hardware = src, f.Source
		}
	}
}

// HardwareOf converts to the form that libraries take.
func HardwareOf(h endpoint.HardwareAddr) net.HardwareAddr { return net.HardwareAddr(h[:]) }

// EchoFrame is an echo request in a frame to one neighbour (RFC 792, RFC 4443 §4.1).
func EchoFrame(from, to endpoint.HardwareAddr, src, dst netip.Addr, hopLimit int, id, seq uint16) []byte {
	payload := gopacket.Payload(make([]byte, 24))
	if dst.Is6() {
		ip := &layers.IPv6{Version: 6, HopLimit: uint8(hopLimit), NextHeader: layers.IPProtocolICMPv6, SrcIP: src.AsSlice(),
			DstIP: dst.AsSlice()}
		icmp := &layers.ICMPv6{TypeCode: layers.CreateICMPv6TypeCode(layers.ICMPv6TypeEchoRequest, 0)}
		_ = icmp.SetNetworkLayerForChecksum(ip)
		return serialize(&layers.Ethernet{SrcMAC: from[:], DstMAC: to[:], EthernetType: layers.EthernetTypeIPv6}, ip, icmp,
			&layers.ICMPv6Echo{Identifier: id, SeqNumber: seq}, payload)
	}
	ip := &layers.IPv4{Version: 4, TTL: uint8(hopLimit), Protocol: layers.IPProtocolICMPv4, SrcIP: src.AsSlice(), DstIP: dst.AsSlice()}
	icmp := &layers.ICMPv4{TypeCode: layers.CreateICMPv4TypeCode(layers.ICMPv4TypeEchoRequest, 0), Id: id, Seq: seq}
	return serialize(&layers.Ethernet{SrcMAC: from[:], DstMAC: to[:], EthernetType: layers.EthernetTypeIPv4}, ip, icmp, payload)
}

// SYNFrame is a request for a connection (see SYN) in a frame to one neighbour.
func SYNFrame(from, to endpoint.HardwareAddr, src, dst netip.AddrPort, hopLimit int, number uint16) []byte {
	segment := gopacket.Payload(SYN(src, dst, number))
	if dst.Addr().Is6() {
		return serialize(&layers.Ethernet{SrcMAC: from[:], DstMAC: to[:], EthernetType: layers.EthernetTypeIPv6},
			&layers.IPv6{Version: 6, HopLimit: uint8(hopLimit), NextHeader: layers.IPProtocolTCP, SrcIP: src.Addr().AsSlice(),
				DstIP: dst.Addr().AsSlice()}, segment)
	}
	ip := &layers.IPv4{Version: 4, TTL: uint8(hopLimit), Protocol: layers.IPProtocolTCP, SrcIP: src.Addr().AsSlice(),
		DstIP: dst.Addr().AsSlice()}
	return serialize(&layers.Ethernet{SrcMAC: from[:], DstMAC: to[:], EthernetType: layers.EthernetTypeIPv4}, ip, segment)
}
