package capture_test

import (
	"fmt"
	"net"
	"net/netip"
	"strings"
	"testing"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/bpf"
	"pgregory.net/rapid"

	"passepartout/internal/capture"
	"passepartout/internal/core/endpoint"
)

var ours = capture.Mine{Hardware: endpoint.HardwareAddr{2, 0, 0, 0, 0, 0x23}}

func TestChoicesThatDoNotParse(t *testing.T) {
	for text, says := range map[string]string{
		"":                        "nothing is chosen: give mine, everything, arp",
		"tcp and":                 "it ends at character 8, where there should be one of mine",
		"tcp udp":                 `"udp" at character 5: there should be and, or, or the end`,
		"hots 10.0.0.1":           `"hots" at character 1: there should be one of mine`,
		"(tcp or udp":             "it ends at character 12, where there should be and, or, or a closing bracket",
		"tcp)":                    `")" at character 4: there should be and, or, or the end`,
		"host pier-gw":            `"pier-gw" at character 6: there should be an address after host, such as 172.27.40.23`,
		"net 10.0.0.0":            `"10.0.0.0" at character 5: there should be a prefix after net, such as 172.27.40.0/24`,
		"port 70000":              `"70000" at character 6: there should be a port after port, 1 to 65535`,
		"port":                    "it ends at character 5, where there should be a port after port, 1 to 65535",
		"not":                     "it ends at character 4",
		"host fe80::1%eth0":       "an address after host",
		"\x1b[2J":                 "there should be one of mine",
		strings.Repeat("a ", 101): "101 words: give at most 100",
		strings.Repeat("(", 90):   "it ends at character 91",
	} {
		_, err := capture.ParseChoice(text)
		if assert.Error(t, err, text) {
			assert.Contains(t, err.Error(), says)
			assert.NotContains(t, err.Error(), "\x1b")
			assert.NotContains(t, err.Error(), "\n")
		}
	}
	long, err := capture.ParseChoice(strings.Repeat("net 2001:db8::/127 or ", 33) + "arp")
	require.NoError(t, err)
	_, err = long.Compile(ours, 1000)
	require.NoError(t, err)
}

// what a frame is, as gopacket reads it.
type what struct {
	words map[string]bool
	ports []uint16
	addrs []netip.Addr
}

func whatIs(frame []byte) what {
	w := what{words: map[string]bool{"everything": true}}
	if string(frame[:6]) == string(ours.Hardware[:]) || string(frame[6:12]) == string(ours.Hardware[:]) {
		w.words["mine"] = true
	}
	p := gopacket.NewPacket(frame, layers.LayerTypeEthernet, gopacket.Default)
	for _, l := range p.Layers() {
		switch l := l.(type) {
		case *layers.ARP:
			w.words["arp"] = true
			for _, raw := range [][]byte{l.SourceProtAddress, l.DstProtAddress} {
				a, _ := netip.AddrFromSlice(raw)
				w.addrs = append(w.addrs, a)
			}
		case *layers.IPv4:
			w.add(l.SrcIP, l.DstIP)
		case *layers.IPv6:
			w.add(l.SrcIP, l.DstIP)
		case *layers.ICMPv4, *layers.ICMPv6:
			w.words["icmp"] = true
		case *layers.TCP:
			w.words["tcp"], w.words["connections"] = true, l.SYN || l.FIN || l.RST
			w.ports = []uint16{uint16(l.SrcPort), uint16(l.DstPort)}
		case *layers.UDP:
			w.words["udp"] = true
			w.ports = []uint16{uint16(l.SrcPort), uint16(l.DstPort)}
		case *layers.LinkLayerDiscovery:
			w.words["lldp"] = true
		}
	}
	for _, port := range w.ports {
		switch {
		case port == 53:
			w.words["dns"] = true
		case port == 5353 && w.words["udp"]:
			w.words["mdns"] = true
		case (port == 67 || port == 68 || port == 546 || port == 547) && w.words["udp"]:
			w.words["dhcp"] = true
		}
	}
	return w
}

func (w *what) add(addrs ...net.IP) {
	for _, ip := range addrs {
		a, _ := netip.AddrFromSlice(ip)
		w.addrs = append(w.addrs, a.Unmap())
	}
}

// drawn is a choice, as text and as what it means.
type drawn struct {
	text string
	is   func(what) bool
}

func draw(t *rapid.T, deep int) drawn {
	kinds := 4
	if deep == 0 {
		kinds = 3
	}
	switch kind := rapid.IntRange(0, kinds).Draw(t, "kind"); kind {
	case 0, 1:
		name := rapid.SampledFrom([]string{"mine", "everything", "arp", "icmp", "dhcp", "dns", "mdns", "lldp", "tcp", "udp",
			"connections"}).Draw(t, "word")
		return drawn{name, func(w what) bool { return w.words[name] }}
	case 2:
		port := rapid.SampledFrom(somePorts).Draw(t, "port")
		return drawn{fmt.Sprint("port ", port), func(w what) bool {
			for _, p := range w.ports {
				if p == port {
					return true
				}
			}
			return false
		}}
	case 3:
		a := rapid.SampledFrom(someAddresses).Draw(t, "address")
		bits := rapid.SampledFrom([]int{a.BitLen(), a.BitLen() - 8, 24, 13, 64 % a.BitLen(), 0}).Draw(t, "bits")
		p := netip.PrefixFrom(a, bits).Masked()
		return drawn{"net " + p.String(), func(w what) bool {
			for _, x := range w.addrs {
				if p.Contains(x) {
					return true
				}
			}
			return false
		}}
	}
	a, b := draw(t, deep-1), draw(t, deep-1)
	switch rapid.IntRange(0, 2).Draw(t, "joined") {
	case 0:
		return drawn{"(" + a.text + ") and (" + b.text + ")", func(w what) bool { return a.is(w) && b.is(w) }}
	case 1:
		return drawn{"(" + a.text + " or " + b.text + ")", func(w what) bool { return a.is(w) || b.is(w) }}
	}
	return drawn{"not (" + a.text + ")", func(w what) bool { return !a.is(w) }}
}

var somePorts = []uint16{53, 67, 68, 443, 546, 547, 5353, 40000}

var someAddresses = []netip.Addr{netip.MustParseAddr("172.27.40.23"), netip.MustParseAddr("172.27.40.1"),
	netip.MustParseAddr("203.0.113.80"),
	netip.MustParseAddr("2001:db8:40::23"), netip.MustParseAddr("2001:db8:113::70"), netip.MustParseAddr("fe80::1")}

// drawFrame makes a frame of any sort that matters here.
func drawFrame(t *rapid.T) []byte {
	hardware := func(name string) net.HardwareAddr {
		return rapid.SampledFrom([]net.HardwareAddr{ours.Hardware[:], {2, 0, 0, 0, 0, 0x24}, {2, 0, 0, 0, 1, 0x23}}).Draw(t, name)
	}
	e := &layers.Ethernet{SrcMAC: hardware("source"), DstMAC: hardware("destination"), EthernetType: layers.EthernetTypeIPv4}
	parts := []gopacket.SerializableLayer{e}
	typed := func(kind layers.EthernetType) {
		if rapid.Bool().Draw(t, "tagged") {
			e.EthernetType = layers.EthernetTypeDot1Q
			parts = append(parts, &layers.Dot1Q{VLANIdentifier: 40, Type: kind})
			return
		}
		e.EthernetType = kind
	}
	four := func(name string) netip.Addr { return rapid.SampledFrom(someAddresses[:3]).Draw(t, name) }
	six := func(name string) netip.Addr { return rapid.SampledFrom(someAddresses[3:]).Draw(t, name) }
	upper := func(six bool) (layers.IPProtocol, []gopacket.SerializableLayer) {
		from, to := rapid.SampledFrom(somePorts).Draw(t, "from"), rapid.SampledFrom(somePorts).Draw(t, "to")
		body := gopacket.Payload(make([]byte, 60))
		switch rapid.IntRange(0, 2).Draw(t, "upper") {
		case 0:
			return layers.IPProtocolTCP, []gopacket.SerializableLayer{&layers.TCP{SrcPort: layers.TCPPort(from),
				DstPort: layers.TCPPort(to),
				SYN:     rapid.Bool().Draw(t, "SYN"), ACK: true, RST: rapid.IntRange(0, 3).Draw(t, "RST") == 0}, body}
		case 1:
			return layers.IPProtocolUDP, []gopacket.SerializableLayer{&layers.UDP{SrcPort: layers.UDPPort(from),
				DstPort: layers.UDPPort(to), Length: 68}, body}
		}
		if six {
			return layers.IPProtocolICMPv6, []gopacket.SerializableLayer{&layers.ICMPv6{TypeCode: layers.CreateICMPv6TypeCode(128, 0)},
				body}
		}
		return layers.IPProtocolICMPv4, []gopacket.SerializableLayer{&layers.ICMPv4{TypeCode: layers.CreateICMPv4TypeCode(8, 0)}, body}
	}
	switch rapid.IntRange(0, 3).Draw(t, "sort") {
	case 0:
		typed(layers.EthernetTypeARP)
		parts = append(parts, &layers.ARP{AddrType: layers.LinkTypeEthernet, Protocol: layers.EthernetTypeIPv4, HwAddressSize: 6,
			ProtAddressSize: 4,
			Operation:       1, SourceHwAddress: e.SrcMAC, DstHwAddress: make([]byte, 6), SourceProtAddress: four("asks").AsSlice(),
			DstProtAddress: four("asked").AsSlice()}, gopacket.Payload(make([]byte, 18)))
	case 1:
		typed(layers.EthernetTypeIPv4)
		ip := &layers.IPv4{Version: 4, IHL: 5, TTL: 64, SrcIP: four("src").AsSlice(), DstIP: four("dst").AsSlice()}
		kind, above := upper(false)
		ip.Protocol = kind
		if rapid.Bool().Draw(t, "options") {
			ip.Options = []layers.IPv4Option{{OptionType: 1}, {OptionType: 1}, {OptionType: 1}, {OptionType: 1}}
		}
		if rapid.IntRange(0, 4).Draw(t, "fragment") == 0 {
			ip.FragOffset = 100
		}
		parts = append(append(parts, ip), above...)
	case 2:
		typed(layers.EthernetTypeIPv6)
		kind, above := upper(true)
		ip := &layers.IPv6{Version: 6, HopLimit: 64, NextHeader: kind, SrcIP: six("src").AsSlice(), DstIP: six("dst").AsSlice()}
		parts = append(parts, ip)
		if rapid.Bool().Draw(t, "extended") {
			ip.NextHeader = layers.IPProtocolIPv6Destination
			// a whole one of 16 octets: the next header, its length in eights less one, padding (RFC 8200 §4.2)
			parts = append(parts, gopacket.Payload(append([]byte{byte(kind), 1, 1, 12}, make([]byte, 12)...)))
		}
		parts = append(parts, above...)
	default:
		typed(layers.EthernetTypeLinkLayerDiscovery)
		parts = append(parts, gopacket.Payload(append([]byte{2, 7, 4, 2, 0, 0, 0, 0, 1, 4, 2, 7, 49, 6, 2, 0, 120, 0, 0},
			make([]byte, 40)...)))
	}
	out := gopacket.NewSerializeBuffer()
	require.NoError(t, gopacket.SerializeLayers(out, gopacket.SerializeOptions{FixLengths: true}, parts...))
	return out.Bytes()
}

// The kernel's program takes a frame if, and only if, what gopacket reads in it is what was chosen.
func TestChoicesAreWhatTheySay(t *testing.T) {
	taken, left := 0, 0
	rapid.Check(t, func(t *rapid.T) {
		d := draw(t, 3)
		choice, err := capture.ParseChoice(d.text)
		require.NoError(t, err, d.text)
		raw, err := choice.Compile(ours, 1000)
		require.NoError(t, err)
		program, ok := bpf.Disassemble(raw)
		require.True(t, ok)
		vm, err := bpf.NewVM(program)
		require.NoError(t, err)
		for range 8 {
			frame := drawFrame(t)
			n, err := vm.Run(frame)
			require.NoError(t, err)
			want := d.is(whatIs(frame))
			require.Equal(t, want, n > 0, "%s\n%v", d.text, gopacket.NewPacket(frame, layers.LayerTypeEthernet, gopacket.Default))
			if want {
				taken++
			} else {
				left++
			}
		}
	})
	assert.Greater(t, min(taken, left), 50)
}
