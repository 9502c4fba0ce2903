package wire

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/insomniacslk/dhcp/dhcpv6"
	"github.com/insomniacslk/dhcp/iana"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/subnet"
	"passepartout/internal/core/wiretext"
)

// The ports of DHCPv6 (RFC 8415 §7.2).
const (
	ClientPort6 = 546
	ServerPort6 = 547
)

var (
	allRouters = netip.MustParseAddr("ff02::2")
	allServers = netip.MustParseAddr("ff02::1:2")
)

// groupOf is the hardware address of an IPv6 multicast group (RFC 2464 §7).
func groupOf(a netip.Addr) []byte {
	b := a.As16()
	return []byte{0x33, 0x33, b[12], b[13], b[14], b[15]}
}

var allNodes = netip.MustParseAddr("ff02::1")

// AllNodesEcho asks all IPv6 machines of the segment for an echo: each that answers asks for this machine first, and so shows its address
// (RFC 4291 §2.7.1).
func AllNodesEcho(hw endpoint.HardwareAddr, from netip.Addr) []byte {
	ip := &layers.IPv6{Version: 6, NextHeader: layers.IPProtocolICMPv6, HopLimit: 1, SrcIP: from.AsSlice(), DstIP: allNodes.AsSlice()}
	icmp := &layers.ICMPv6{TypeCode: layers.CreateICMPv6TypeCode(layers.ICMPv6TypeEchoRequest, 0)}
	_ = icmp.SetNetworkLayerForChecksum(ip)
	return serialize(&layers.Ethernet{SrcMAC: hw[:], DstMAC: groupOf(allNodes), EthernetType: layers.EthernetTypeIPv6}, ip, icmp,
		&layers.ICMPv6Echo{Identifier: 1, SeqNumber: 1})
}

// RouterSolicitation asks routers to advertise themselves (RFC 4861 §4.1).
func RouterSolicitation(hw endpoint.HardwareAddr, from netip.Addr) []byte {
	ip := &layers.IPv6{Version: 6, NextHeader: layers.IPProtocolICMPv6, HopLimit: 255, SrcIP: from.AsSlice(), DstIP: allRouters.AsSlice()}
	icmp := &layers.ICMPv6{TypeCode: layers.CreateICMPv6TypeCode(layers.ICMPv6TypeRouterSolicitation, 0)}
	_ = icmp.SetNetworkLayerForChecksum(ip)
	rs := &layers.ICMPv6RouterSolicitation{Options: layers.ICMPv6Options{{Type: layers.ICMPv6OptSourceAddress, Data: hw[:]}}}
	return serialize(&layers.Ethernet{SrcMAC: hw[:], DstMAC: groupOf(allRouters), EthernetType: layers.EthernetTypeIPv6}, ip, icmp, rs)
}

// ParseAdvertisement reads a router advertisement; false for any other frame, and for one from further away than the link (RFC 4861
// §6.1.2).
func ParseAdvertisement(frame []byte) (a evidence.Advertisement, ok bool) {
	const atType = 14 + 40
	if len(frame) <= atType || frame[12] != 0x86 || frame[13] != 0xdd || frame[20] != uint8(layers.IPProtocolICMPv6) ||
		frame[atType] != layers.ICMPv6TypeRouterAdvertisement {
		return a, false // told quickly: this is called for every frame
	}
	p := gopacket.NewPacket(frame, layers.LayerTypeEthernet, gopacket.DecodeOptions{NoCopy: true})
	ip, isIP := p.NetworkLayer().(*layers.IPv6)
	ra, isRA := p.Layer(layers.LayerTypeICMPv6RouterAdvertisement).(*layers.ICMPv6RouterAdvertisement)
	if !isIP || !isRA || ip.HopLimit != 255 || !addr(ip.SrcIP).IsLinkLocalUnicast() {
		return a, false
	}
	a.Router, a.Lifetime = addr(ip.SrcIP), time.Duration(ra.RouterLifetime)*time.Second
	a.Managed, a.Other = ra.Flags&0x80 != 0, ra.Flags&0x40 != 0
	if eth, isEth := p.LinkLayer().(*layers.Ethernet); isEth {
		a.Hardware, _ = endpoint.HardwareFrom(eth.SrcMAC)
	}
	for _, o := range ra.Options {
		switch b := o.Data; {
		case o.Type == layers.ICMPv6OptPrefixInfo && len(b) >= 30 && b[0] <= 128 && len(a.Prefixes) < 16:
			a.Prefixes = append(a.Prefixes,
				evidence.AdvertisedPrefix{Prefix: netip.PrefixFrom(addr(b[14:30]), int(b[0])), OnLink: b[1]&0x80 != 0,
					Autonomous: b[1]&0x40 != 0,
					Valid:      time.Duration(binary.BigEndian.Uint32(b[2:])) * time.Second,
					Preferred:  time.Duration(binary.BigEndian.Uint32(b[6:])) * time.Second})
		case o.Type == layers.ICMPv6OptMTU && len(b) >= 6:
			a.MTU = int(binary.BigEndian.Uint32(b[2:]))
		case o.Type == optRDNSS && len(b) >= 6:
			for b = b[6:]; len(b) >= 16 && len(a.Resolvers) < 16; b = b[16:] {
				a.Resolvers = append(a.Resolvers, addr(b[:16]))
			}
		case o.Type == optDNSSL && len(b) >= 6:
			a.Search = append(a.Search, SearchList(b[6:])...)
		case o.Type == optCaptivePortal:
			a.CaptivePortal = portalOf(b)
		case o.Type == optPREF64 && len(b) >= 14:
			if bits, ok := subnet.PrefixLengthCode(b[1] & 7); ok {
				a.Translation, _ = addr(append(slices.Clone(b[2:14]), 0, 0, 0, 0)).Prefix(bits)
			}
		}
	}
	return a, true
}

// Options of RFC 8106, RFC 8781 and RFC 8910 that the packet libraries have no names for.
const (
	optRDNSS         layers.ICMPv6Opt = 25
	optDNSSL         layers.ICMPv6Opt = 31
	optCaptivePortal layers.ICMPv6Opt = 37
	optPREF64        layers.ICMPv6Opt = 38

	// OptCaptivePortal6 is the DHCPv6 option that names a captive portal (RFC 8910 §2.2).
	OptCaptivePortal6 dhcpv6.OptionCode = 103
)

// portalOf is the URI of a captive portal, which may be filled up with zeros (RFC 8910 §2.3).
func portalOf(b []byte) string { return wiretext.Clean(string(bytes.TrimRight(b, "\x00"))) }

// InformationRequest asks DHCPv6 servers for settings, and no address (RFC 8415 §18.2.6).
func InformationRequest(hw endpoint.HardwareAddr, from netip.Addr) (frame []byte, xid [3]byte, err error) {
	m, err := dhcpv6.NewMessage()
	if err != nil {
		return nil, xid, err
	}
	m.MessageType = dhcpv6.MessageTypeInformationRequest
	m.AddOption(dhcpv6.OptClientID(&dhcpv6.DUIDLL{HWType: iana.HWTypeEthernet, LinkLayerAddr: HardwareOf(hw)}))
	m.AddOption(dhcpv6.OptRequestedOption(dhcpv6.OptionDNSRecursiveNameServer, dhcpv6.OptionDomainSearchList, OptCaptivePortal6))
	m.AddOption(dhcpv6.OptElapsedTime(0))
	to, _ := endpoint.HardwareFrom(groupOf(allServers))
	return UDP6Frame(hw, to, netip.AddrPortFrom(from, ClientPort6), netip.AddrPortFrom(allServers, ServerPort6), m.ToBytes()),
		m.TransactionID, nil
}

// ParseInformation reads the reply to an information-request; false for anything else.
func ParseInformation(payload []byte, xid [3]byte) (i evidence.Information, ok bool) {
	m, err := dhcpv6.MessageFromBytes(payload)
	if err != nil || m.MessageType != dhcpv6.MessageTypeReply || m.TransactionID != xid {
		return i, false
	}
	if id := m.Options.ServerID(); id != nil {
		i.Server = fmt.Sprintf("%x", id.ToBytes())
	}
	for _, b := range m.Options.DNS() {
		if a := addr(b); a.Is6() && len(i.Resolvers) < 16 {
			i.Resolvers = append(i.Resolvers, a)
		}
	}
	if list := m.Options.DomainSearchList(); list != nil {
		for _, l := range list.Labels {
			if len(i.Search) < 16 {
				i.Search = append(i.Search, wiretext.Clean(l))
			}
		}
	}
	if o := m.Options.GetOne(OptCaptivePortal6); o != nil {
		i.CaptivePortal = portalOf(o.ToBytes())
	}
	return i, true
}

// IsSolicitation reports whether a frame asks routers to advertise themselves.
func IsSolicitation(frame []byte) bool {
	const atType = 14 + 40
	return len(frame) > atType && frame[12] == 0x86 && frame[13] == 0xdd && frame[20] == uint8(layers.IPProtocolICMPv6) &&
		frame[atType] == layers.ICMPv6TypeRouterSolicitation
}

// Advertised is what a router says of itself and of the segment.
type Advertised struct {
	Lifetime       time.Duration
	Managed, Other bool
	Prefix         netip.Prefix
	Valid          time.Duration
	Resolvers      []netip.Addr
	CaptivePortal  string
	Translation    netip.Prefix // of 96 bits, or zero
}

// RouterAdvertisement is such a message to all nodes (RFC 4861 §4.2, RFC 8106 §5.1, RFC 8781 §4, RFC 8910 §2.3).
func RouterAdvertisement(hw endpoint.HardwareAddr, from netip.Addr, a Advertised) []byte {
	all := netip.MustParseAddr("ff02::1")
	ip := &layers.IPv6{Version: 6, NextHeader: layers.IPProtocolICMPv6, HopLimit: 255, SrcIP: from.AsSlice(), DstIP: all.AsSlice()}
	icmp := &layers.ICMPv6{TypeCode: layers.CreateICMPv6TypeCode(layers.ICMPv6TypeRouterAdvertisement, 0)}
	_ = icmp.SetNetworkLayerForChecksum(ip)
	ra := &layers.ICMPv6RouterAdvertisement{HopLimit: 64, RouterLifetime: uint16(a.Lifetime / time.Second)}
	if a.Managed {
		ra.Flags |= 0x80
	}
	if a.Other {
		ra.Flags |= 0x40
	}
	ra.Options = append(ra.Options, layers.ICMPv6Option{Type: layers.ICMPv6OptSourceAddress, Data: hw[:]})
	seconds := func(d time.Duration) []byte { return binary.BigEndian.AppendUint32(nil, uint32(d/time.Second)) }
	if a.Prefix.IsValid() {
		b := []byte{uint8(a.Prefix.Bits()), 0xc0}
		b = append(append(b, seconds(a.Valid)...), seconds(a.Valid)...)
		ra.Options = append(ra.Options,
			layers.ICMPv6Option{Type: layers.ICMPv6OptPrefixInfo,
				Data: append(append(b, 0, 0, 0, 0), a.Prefix.Masked().Addr().AsSlice()...)})
	}
	if len(a.Resolvers) > 0 {
		b := append([]byte{0, 0}, seconds(a.Valid)...)
		for _, r := range a.Resolvers {
			b = append(b, r.AsSlice()...)
		}
		ra.Options = append(ra.Options, layers.ICMPv6Option{Type: optRDNSS, Data: b})
	}
	if a.CaptivePortal != "" {
		const unit, head = 8, 2
		b := []byte(a.CaptivePortal)
		ra.Options = append(ra.Options,
			layers.ICMPv6Option{Type: optCaptivePortal, Data: append(b, make([]byte, (unit-(len(b)+head)%unit)%unit)...)})
	}
	if a.Translation.IsValid() {
		const lifetime = 8 // in units of 8 s; the lowest three bits of the field are the code of the length, 0 for 96 bits
		raw := a.Translation.Masked().Addr().As16()
		ra.Options = append(ra.Options, layers.ICMPv6Option{Type: optPREF64, Data: append([]byte{0, lifetime << 3}, raw[:12]...)})
	}
	return serialize(&layers.Ethernet{SrcMAC: hw[:], DstMAC: groupOf(all), EthernetType: layers.EthernetTypeIPv6}, ip, icmp, ra)
}

// UDP6Frame is a UDP datagram over IPv6 in an Ethernet frame.
func UDP6Frame(from, to endpoint.HardwareAddr, src, dst netip.AddrPort, payload []byte) []byte {
	ip := &layers.IPv6{Version: 6, NextHeader: layers.IPProtocolUDP, HopLimit: 255, SrcIP: src.Addr().AsSlice(),
		DstIP: dst.Addr().AsSlice()}
	udp := &layers.UDP{SrcPort: layers.UDPPort(src.Port()), DstPort: layers.UDPPort(dst.Port())}
	_ = udp.SetNetworkLayerForChecksum(ip)
	return serialize(&layers.Ethernet{SrcMAC: from[:], DstMAC: to[:], EthernetType: layers.EthernetTypeIPv6}, ip, udp,
		gopacket.Payload(payload))
}
