package capture

import (
	"errors"
	"io"
	"net/netip"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"

	"passepartout/internal/core/dhcp"
	"passepartout/internal/machine/wire"
)

// linkRawBSD are numbers under which raw IP was written before 101 was agreed on.
var rawIP = map[layers.LinkType]bool{layers.LinkTypeRaw: true, layers.LinkTypeIPv4: true, 12: true, 14: true}

// Taker takes what is found in a file, in order; a dhcp.Tracker is one.
type Taker interface {
	Take(dhcp.Sighting) *dhcp.Exchange
	TakeUnserved(dhcp.Unserved)
}

// DHCP hands out the DHCPv4 messages of a file, in order. skip is called for each frame that looks like one and could not be read, with the
// reason. It returns how many frames there were. An error means that nothing could be read at all.
func DHCP(r io.Reader, t Taker, skip func(frame int, why string)) (frames int, err error) {
	file, err := Open(r)
	if err != nil {
		return 0, err
	}
	d := newDecoder()
	var f Frame // both are used again for each frame: most are about something else, and must cost nothing
	var s dhcp.Sighting
	var u dhcp.Unserved
	for {
		err := file.Next(&f)
		switch {
		case errors.Is(err, io.EOF):
			return frames, nil
		case err != nil:
			skip(frames+1, err.Error())
			return frames, nil
		}
		frames++
		why, ok := d.decode(&f, &s)
		switch {
		case ok:
			t.Take(s)
		case d.unserved(&f, &u):
			t.TakeUnserved(u)
		case why != "":
			skip(f.Number, why)
		}
	}
}

// decoder reads frames without taking memory for those that are not wanted.
type decoder struct {
	eth   layers.Ethernet
	vlan  layers.Dot1Q
	sll   layers.LinuxSLL
	sll2  layers.LinuxSLL2
	ip    layers.IPv4
	udp   layers.UDP
	dhcp  wire.DHCPParser
	found []gopacket.LayerType
	by    map[gopacket.LayerType]*gopacket.DecodingLayerParser
	link  layers.LinkType               // of the frame before
	last  *gopacket.DecodingLayerParser // which decodes that
}

func newDecoder() *decoder {
	d := &decoder{by: map[gopacket.LayerType]*gopacket.DecodingLayerParser{}}
	for first, link := range map[gopacket.LayerType][]gopacket.DecodingLayer{
		layers.LayerTypeEthernet: {&d.eth, &d.vlan}, layers.LayerTypeLinuxSLL: {&d.sll, &d.vlan},
		layers.LayerTypeLinuxSLL2: {&d.sll2, &d.vlan}, layers.LayerTypeIPv4: nil,
	} {
		p := gopacket.NewDecodingLayerParser(first, append(link, &d.ip, &d.udp)...)
		p.IgnoreUnsupported = true
		d.by[first] = p
	}
	return d
}

func (d *decoder) parser(link layers.LinkType) *gopacket.DecodingLayerParser {
	switch {
	case link == layers.LinkTypeEthernet:
		return d.by[layers.LayerTypeEthernet]
	case link == layers.LinkTypeLinuxSLL:
		return d.by[layers.LayerTypeLinuxSLL]
	case link == layers.LinkTypeLinuxSLL2:
		return d.by[layers.LayerTypeLinuxSLL2]
	case rawIP[link]:
		return d.by[layers.LayerTypeIPv4]
	}
	return nil
}

// decode reads one frame into s. why is set for one that should have been a DHCP message and is not to be read; a frame about anything else
// has neither.
func (d *decoder) decode(f *Frame, s *dhcp.Sighting) (why string, ok bool) {
	p := d.last
	if p == nil || f.Link != d.link {
		if p = d.parser(f.Link); p == nil {
			return "its link type is not known here", false
		}
		d.link, d.last = f.Link, p
	}
	if f.Link != layers.LinkTypeEthernet && rawIP[f.Link] && (len(f.Data) == 0 || f.Data[0]>>4 != 4) {
		return "", false // IPv6
	}
	d.udp.SrcPort, d.udp.DstPort = 0, 0
	err := p.DecodeLayers(f.Data, &d.found)
	if len(d.found) == 0 || d.found[len(d.found)-1] != layers.LayerTypeUDP {
		switch {
		case err != nil && f.Cut:
			return "cut short", false
		case d.fragment():
			return "a fragment: DHCP messages are not put together from parts here", false
		}
		return "", false
	}
	from, to := uint16(d.udp.SrcPort), uint16(d.udp.DstPort)
	if to != dhcp.ServerPort && to != dhcp.ClientPort {
		return "", false
	}
	m, err := d.dhcp.Parse(d.udp.Payload)
	short := f.Cut || p.Truncated
	switch {
	case err != nil && short, err == nil && short && m.Type == 0:
		return "cut short", false
	case err != nil && (errors.Is(err, wire.ErrShort) || from == 0):
		return "too short for a DHCP message", false
	case err != nil:
		return err.Error(), false
	case short:
		m.Cut = "cut short: its last options are missing"
	}
	if m.Type == 0 {
		return "a BOOTP message: it has no DHCP message type", false
	}
	src, _ := netip.AddrFromSlice(d.ip.SrcIP)
	dst, _ := netip.AddrFromSlice(d.ip.DstIP)
	*s = dhcp.Sighting{Frame: f.Number, At: f.At, From: netip.AddrPortFrom(src, from), To: netip.AddrPortFrom(dst, to), Message: m}
	return "", true
}

// unserved reports whether the frame just decoded is an ICMP error from a machine on which nobody listens on the DHCP server's port.
func (d *decoder) unserved(f *Frame, u *dhcp.Unserved) bool {
	if len(d.found) == 0 || d.found[len(d.found)-1] != layers.LayerTypeIPv4 || d.ip.Protocol != layers.IPProtocolICMPv4 ||
		len(d.ip.Payload) < 8 ||
		d.ip.Payload[0] != layers.ICMPv4TypeDestinationUnreachable || d.ip.Payload[1] != layers.ICMPv4CodePort {
		return false
	}
	r, ok := wire.ParsePacket(append(d.ip.Contents[:len(d.ip.Contents):len(d.ip.Contents)], d.ip.Payload...))
	if !ok || r.About.Proto != uint8(layers.IPProtocolUDP) || r.About.To.Port() != dhcp.ServerPort {
		return false
	}
	*u = dhcp.Unserved{Frame: f.Number, Server: r.From, Client: r.About.From.Addr()}
	return true
}

// fragment reports whether the frame just decoded is the first part of a UDP datagram to a DHCP port that came in parts.
func (d *decoder) fragment() bool {
	if len(d.found) == 0 || d.found[len(d.found)-1] != layers.LayerTypeIPv4 || d.ip.Protocol != layers.IPProtocolUDP ||
		d.ip.Flags&layers.IPv4MoreFragments == 0 || d.ip.FragOffset != 0 {
		return false
	}
	b := d.ip.Payload
	return len(b) >= 4 && b[2] == 0 && (b[3] == dhcp.ServerPort || b[3] == dhcp.ClientPort)
}
