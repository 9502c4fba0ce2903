package frame_test

import (
	"net"
	"os"
	"strings"
	"testing"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/gopacket/gopacket/pcapgo"
	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/frame"
)

var (
	hw, far  = net.HardwareAddr{2, 0, 0x5e, 0, 0x53, 1}, net.HardwareAddr{2, 0, 0x5e, 0, 0x53, 2}
	own, two = net.IP{172, 27, 40, 23}, net.IP{172, 27, 40, 2}
	own6     = net.ParseIP("2001:db8:40::23")
	two6     = net.ParseIP("2001:db8:40::2")
)

func built(t *testing.T, list ...gopacket.SerializableLayer) []byte {
	buf := gopacket.NewSerializeBuffer()
	require.NoError(t, gopacket.SerializeLayers(buf, gopacket.SerializeOptions{FixLengths: true, ComputeChecksums: true}, list...))
	return buf.Bytes()
}

func link(kind layers.EthernetType) *layers.Ethernet {
	return &layers.Ethernet{SrcMAC: hw, DstMAC: far, EthernetType: kind}
}

func ip4(proto layers.IPProtocol) *layers.IPv4 {
	return &layers.IPv4{Version: 4, TTL: 64, Protocol: proto, SrcIP: own, DstIP: two, Flags: layers.IPv4DontFragment}
}

func ip6(next layers.IPProtocol) *layers.IPv6 {
	return &layers.IPv6{Version: 6, HopLimit: 255, NextHeader: next, SrcIP: own6, DstIP: two6}
}

func lookUp(t *testing.T) []byte {
	q := new(dns.Msg).SetQuestion("bookings.kittiwake.example.", dns.TypeA)
	a := new(dns.Msg).SetReply(q)
	a.Compress, a.Authoritative = true, true
	for _, text := range []string{"bookings.kittiwake.example. 60 IN CNAME pier.kittiwake.example.",
		"pier.kittiwake.example. 60 IN A 203.0.113.80",
		`pier.kittiwake.example. 60 IN TXT "tide \009 table"`, "_sip._tcp.kittiwake.example. 60 IN SRV 1 2 5060 pier.kittiwake.example.",
		"kittiwake.example. 60 IN MX 10 pier.kittiwake.example.", "pier.kittiwake.example. 60 IN AAAA 2001:db8::80"} {
		rr, err := dns.NewRR(text)
		require.NoError(t, err)
		a.Answer = append(a.Answer, rr)
	}
	b, err := a.Pack()
	require.NoError(t, err)
	return b
}

// said are the layers in words: their names, and the fields as name: value.
func said(list []frame.Layer) string {
	var b strings.Builder
	for _, l := range list {
		b.WriteString("[" + l.Name + "]")
		if l.Wrong != "" {
			b.WriteString("!" + l.Wrong)
		}
		for _, f := range l.Fields {
			b.WriteString(" " + f.Name + ": " + f.Value + ";")
		}
		b.WriteString("\n")
	}
	return b.String()
}

// Each layer is opened by the standard's names, and says what does not hold.
func TestOpen(t *testing.T) {
	tcp := &layers.TCP{SrcPort: 40000, DstPort: 443, Seq: 7, SYN: true, Window: 64240, Options: []layers.TCPOption{
		{OptionType: layers.TCPOptionKindMSS, OptionLength: 4, OptionData: []byte{5, 180}},
		{OptionType: layers.TCPOptionKindNop}, {OptionType: layers.TCPOptionKindWindowScale, OptionLength: 3, OptionData: []byte{7}}}}
	under := ip4(layers.IPProtocolTCP)
	require.NoError(t, tcp.SetNetworkLayerForChecksum(under))
	syn := built(t, link(layers.EthernetTypeIPv4), under, tcp)
	damaged := append([]byte(nil), syn...)
	damaged[40] ^= 1
	udp, below := &layers.UDP{SrcPort: 53, DstPort: 40001}, ip4(layers.IPProtocolUDP)
	require.NoError(t, udp.SetNetworkLayerForChecksum(below))
	answer := built(t, link(layers.EthernetTypeIPv4), below, udp, gopacket.Payload(lookUp(t)))
	icmp6 := &layers.ICMPv6{TypeCode: layers.CreateICMPv6TypeCode(layers.ICMPv6TypeNeighborAdvertisement, 0)}
	six := ip6(layers.IPProtocolICMPv6)
	require.NoError(t, icmp6.SetNetworkLayerForChecksum(six))
	for name, c := range map[string]struct {
		octets []byte
		link   frame.Link
		want   []string
	}{
		"arp": {built(t, link(layers.EthernetTypeARP), &layers.ARP{AddrType: layers.LinkTypeEthernet, Protocol: layers.EthernetTypeIPv4,
			HwAddressSize: 6, ProtAddressSize: 4, Operation: 2, SourceHwAddress: hw, SourceProtAddress: own, DstHwAddress: far,
			DstProtAddress: two}, gopacket.Payload(make([]byte, 18))), frame.Ethernet,
			[]string{"[ARP] Hardware Type: 1, Ethernet;", "Opcode: 2, reply: it is here;", "Sender Protocol Address: 172.27.40.23;", "[padding]"}},
		"tagged": {built(t, link(layers.EthernetTypeDot1Q), &layers.Dot1Q{Priority: 5, VLANIdentifier: 40, Type: layers.EthernetTypeIPv4},
			ip4(layers.IPProtocolICMPv4), &layers.ICMPv4{TypeCode: layers.CreateICMPv4TypeCode(8, 0), Id: 3, Seq: 9}), frame.Ethernet,
			[]string{"[VLAN tag] Priority Code Point: 5;", "VLAN Identifier: 40;", "Type: 8, echo request;", "Sequence Number: 9;", ", holds;"}},
		"opening": {syn, frame.Ethernet, []string{"Control Bits: SYN;", "Destination Port: 443, HTTPS;", "Maximum Segment Size: 1460 octets;",
			"Window Scale: shift by 7;", "Flags: don't fragment;", "[TCP]"}},
		"damaged": {damaged, frame.Ethernet, []string{"does not hold"}},
		"answer": {answer, frame.Ethernet, []string{"QR: a response;", "RCODE: 0, no error;",
			"Flags: authoritative (AA), recursion desired (RD);",
			"Question: bookings.kittiwake.example A;", "Answer: bookings.kittiwake.example CNAME  pier.kittiwake.example, for 60 s;",
			"pier.kittiwake.example A  203.0.113.80, for 60 s;", `"tide \x09 table"`, "SRV  pier.kittiwake.example port 5060, priority 1, weight 2",
			"pier.kittiwake.example, preference 10", "AAAA  2001:db8::80"}},
		"told": {built(t, ip4(layers.IPProtocolICMPv4), &layers.ICMPv4{TypeCode: layers.CreateICMPv4TypeCode(3, 4), Seq: 1400},
			gopacket.Payload(syn[14:42])), frame.RawIP,
			[]string{"Code: 4, too large, and not to be fragmented;", "Next-Hop MTU: 1400 octets", "[TCP] Source Port: 40000;"}},
		"neighbour": {built(t, link(layers.EthernetTypeIPv6), six, icmp6, &layers.ICMPv6NeighborAdvertisement{Flags: 0x60, TargetAddress: own6,
			Options: layers.ICMPv6Options{{Type: layers.ICMPv6OptTargetAddress, Data: hw}}}), frame.Ethernet,
			[]string{"Type: 136, neighbour advertisement;", "Flags: solicited (S), override (O);", "Target Address: 2001:db8:40::23;", ", holds;",
				"Target Link-Layer Address: 02:00:5e:00:53:01;"}},
		"cut":     {syn[:30], frame.Ethernet, []string{"[IPv4]!cut short: 16 octets of 20", "Source Address: 172.27.40.23;"}},
		"nothing": {nil, frame.Ethernet, []string{"[Ethernet]!cut short: 0 octets of 14"}},
	} {
		t.Run(name, func(t *testing.T) {
			got := frame.Open(c.link, c.octets)
			holds(t, c.octets, got)
			for _, want := range c.want {
				assert.Contains(t, said(got), want)
			}
		})
	}
}

// holds is what is so of every frame: its layers follow each other from the first octet to the last, and fields stand in their layers.
func holds(t require.TestingT, octets []byte, list []frame.Layer) {
	at := 0
	for _, l := range list {
		require.Equal(t, at, l.At, "%s begins where the layer before ends", l.Name)
		require.LessOrEqual(t, len(l.Fields), 256)
		for _, f := range l.Fields {
			require.GreaterOrEqual(t, f.At, l.At)
			require.LessOrEqual(t, f.At+f.Octets, l.At+l.Octets, f.Name)
			for _, c := range f.Value {
				require.False(t, c < 0x20 || c == 0x7f, "%q", f.Value)
			}
		}
		at += l.Octets
	}
	require.LessOrEqual(t, at, len(octets))
	require.LessOrEqual(t, len(list), 32)
}

// Against another decoder: the layers of every frame of a capture of real programs, and who sent it to whom.
func TestOpenAgainstAnotherDecoder(t *testing.T) {
	file, err := os.Open("../../capture/testdata/relayed.pcap")
	require.NoError(t, err)
	defer file.Close()
	source, err := pcapgo.NewReader(file)
	require.NoError(t, err)
	names := map[gopacket.LayerType]string{layers.LayerTypeEthernet: "Ethernet", layers.LayerTypeARP: "ARP", layers.LayerTypeIPv4: "IPv4",
		layers.LayerTypeIPv6: "IPv6", layers.LayerTypeUDP: "UDP", layers.LayerTypeTCP: "TCP", layers.LayerTypeICMPv4: "ICMP",
		layers.LayerTypeICMPv6: "ICMPv6", layers.LayerTypeDHCPv4: "DHCP", layers.LayerTypeDNS: "DNS"}
	frames := 0
	for ; ; frames++ {
		data, _, err := source.ReadPacketData()
		if err != nil {
			break
		}
		got := frame.Open(frame.Ethernet, data)
		holds(t, data, got)
		var mine, theirs []string
		for _, l := range got {
			assert.Empty(t, l.Wrong)
			for _, n := range names {
				if n == l.Name {
					mine = append(mine, n)
				}
			}
		}
		p := gopacket.NewPacket(data, layers.LayerTypeEthernet, gopacket.Default)
		for _, l := range p.Layers() {
			if n := names[l.LayerType()]; n != "" {
				theirs = append(theirs, n)
			}
		}
		assert.Equal(t, theirs, mine, "frame %d", frames+1)
		if n := p.NetworkLayer(); n != nil {
			assert.Contains(t, said(got), "Source Address: "+n.NetworkFlow().Src().String()+"; Destination Address: "+
				n.NetworkFlow().Dst().String()+";")
		}
	}
	assert.Equal(t, 60, frames)
}

func FuzzOpen(f *testing.F) {
	f.Add([]byte{}, false)
	f.Add(make([]byte, 400), true)
	loop := append([]byte("\x45\x00\x00\x2c\x00\x00\x00\x00\x40\x11\x00\x00\x7f\x00\x00\x01\x7f\x00\x00\x01\x00\x35\x00\x35\x00\x18\x00\x00"),
		"\x00\x01\x00\x00\x00\x01\x00\x00\x00\x00\x00\x00\xc0\x0c\xff\xff"...)
	f.Add(loop, true)
	f.Fuzz(func(t *testing.T, octets []byte, raw bool) {
		kind := frame.Ethernet
		if raw {
			kind = frame.RawIP
		}
		holds(t, octets, frame.Open(kind, octets))
	})
}
