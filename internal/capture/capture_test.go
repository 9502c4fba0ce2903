package capture_test

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/gopacket/gopacket/pcapgo"
	"github.com/insomniacslk/dhcp/dhcpv4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/capture"
	"passepartout/internal/core/dhcp"
)

var (
	at     = time.Date(2026, 11, 23, 9, 14, 3, 250_000_789, time.UTC)
	ticket = net.HardwareAddr{2, 0, 0, 0, 0x10, 0x17}
)

// message is a client's discover, with further options.
func message(t testing.TB, more ...dhcpv4.Modifier) []byte {
	t.Helper()
	m, err := dhcpv4.NewDiscovery(ticket, more...)
	require.NoError(t, err)
	m.TransactionID = dhcpv4.TransactionID{0x39, 0x03, 0xf3, 0x26}
	return m.ToBytes()
}

func packed(t testing.TB, l ...gopacket.SerializableLayer) []byte {
	t.Helper()
	buf := gopacket.NewSerializeBuffer()
	// without checksums: those are normally wrong
	require.NoError(t, gopacket.SerializeLayers(buf, gopacket.SerializeOptions{FixLengths: true}, l...))
	return bytes.Clone(buf.Bytes())
}

// inIP wraps a payload into a datagram to the DHCP server port.
func inIP(payload []byte) []gopacket.SerializableLayer {
	return []gopacket.SerializableLayer{
		&layers.IPv4{Version: 4, TTL: 64, Protocol: layers.IPProtocolUDP, SrcIP: net.IPv4zero, DstIP: net.IPv4bcast},
		&layers.UDP{SrcPort: 68, DstPort: 67}, gopacket.Payload(payload)}
}

func ethernet(t testing.TB, payload []byte, tags ...uint16) []byte {
	eth := &layers.Ethernet{SrcMAC: ticket, DstMAC: layers.EthernetBroadcast, EthernetType: layers.EthernetTypeIPv4}
	all := []gopacket.SerializableLayer{eth}
	for i, tag := range tags {
		kind := layers.EthernetTypeIPv4
		if i < len(tags)-1 {
			kind = layers.EthernetTypeDot1Q
		}
		all = append(all, &layers.Dot1Q{VLANIdentifier: tag, Type: kind})
	}
	switch len(tags) {
	case 1:
		eth.EthernetType = layers.EthernetTypeDot1Q
	case 2:
		eth.EthernetType = layers.EthernetTypeQinQ
	}
	return packed(t, append(all, inIP(payload)...)...)
}

type record struct {
	data []byte
	cut  int // octets left out at the end
}

// pcap writes a file by hand where the library has no writer for the form.
func pcap(order binary.AppendByteOrder, nanos bool, link layers.LinkType, records ...record) []byte {
	magic := uint32(0xa1b2c3d4)
	if nanos {
		magic = 0xa1b23c4d
	}
	out := order.AppendUint32(nil, magic)
	out = order.AppendUint16(out, 2)
	out = order.AppendUint16(out, 4)
	out = append(out, make([]byte, 8)...)
	out = order.AppendUint32(out, 65535)
	out = order.AppendUint32(out, uint32(link))
	for _, r := range records {
		fraction := uint32(at.Nanosecond())
		if !nanos {
			fraction /= 1000
		}
		out = order.AppendUint32(out, uint32(at.Unix()))
		out = order.AppendUint32(out, fraction)
		out = order.AppendUint32(out, uint32(len(r.data)-r.cut))
		out = order.AppendUint32(out, uint32(len(r.data)))
		out = append(out, r.data[:len(r.data)-r.cut]...)
	}
	return out
}

func pcapng(t testing.TB, parts map[layers.LinkType][]byte) []byte {
	var b bytes.Buffer
	first := pcapgo.NgInterface{Name: "eth0", LinkType: layers.LinkTypeEthernet, SnapLength: 65535}
	w, err := pcapgo.NewNgWriterInterface(&b, first, pcapgo.NgWriterOptions{})
	require.NoError(t, err)
	for link, data := range parts {
		n := 0
		if link != layers.LinkTypeEthernet {
			n, err = w.AddInterface(pcapgo.NgInterface{Name: link.String(), LinkType: link, SnapLength: 65535})
			require.NoError(t, err)
		}
		require.NoError(t,
			w.WritePacket(gopacket.CaptureInfo{Timestamp: at, CaptureLength: len(data), Length: len(data), InterfaceIndex: n}, data))
	}
	require.NoError(t, w.Flush())
	return b.Bytes()
}

type read struct {
	seen     []dhcp.Sighting
	unserved []dhcp.Unserved
	skipped  []string
	frames   int
	err      error
}

func (r *read) Take(s dhcp.Sighting) *dhcp.Exchange { r.seen = append(r.seen, s); return nil }
func (r *read) TakeUnserved(u dhcp.Unserved)        { r.unserved = append(r.unserved, u) }

func readAll(file []byte) (r read) {
	r.frames, r.err = capture.DHCP(bytes.NewReader(file), &r,
		func(frame int, why string) { r.skipped = append(r.skipped, fmt.Sprintf("%d: %s", frame, why)) })
	return r
}

func TestForms(t *testing.T) {
	plain := ethernet(t, message(t))
	cooked1 := append([]byte{0, 4, 0, 1, 0, 6, 2, 0, 0, 0, 0x10, 0x17, 0, 0, 8, 0}, packed(t, inIP(message(t))...)...)
	cooked2 := append([]byte{8, 0, 0, 0, 0, 0, 0, 2, 0, 1, 4, 6, 2, 0, 0, 0, 0x10, 0x17, 0, 0}, packed(t, inIP(message(t))...)...)
	raw := packed(t, inIP(message(t))...)
	micro, nano := at.Truncate(time.Microsecond), at
	tests := map[string]struct {
		file []byte
		at   time.Time
	}{
		"microseconds, little end first": {pcap(binary.LittleEndian, false, layers.LinkTypeEthernet, record{plain, 0}), micro},
		"microseconds, big end first":    {pcap(binary.BigEndian, false, layers.LinkTypeEthernet, record{plain, 0}), micro},
		"nanoseconds, little end first":  {pcap(binary.LittleEndian, true, layers.LinkTypeEthernet, record{plain, 0}), nano},
		"nanoseconds, big end first":     {pcap(binary.BigEndian, true, layers.LinkTypeEthernet, record{plain, 0}), nano},
		"pcapng":                         {pcapng(t, map[layers.LinkType][]byte{layers.LinkTypeEthernet: plain}), nano},
		"one VLAN tag": {pcap(binary.LittleEndian, true, layers.LinkTypeEthernet, record{ethernet(t, message(t), 40), 0}),
			nano},
		"two VLAN tags": {
			pcap(binary.LittleEndian, true, layers.LinkTypeEthernet, record{ethernet(t, message(t), 7, 40), 0}), nano},
		"raw IP":                      {pcap(binary.LittleEndian, true, layers.LinkTypeRaw, record{raw, 0}), nano},
		"raw IP by its former number": {pcap(binary.LittleEndian, true, 12, record{raw, 0}), nano},
		"raw IPv4":                    {pcap(binary.LittleEndian, true, layers.LinkTypeIPv4, record{raw, 0}), nano},
		"Linux cooked 1":              {pcap(binary.LittleEndian, true, layers.LinkTypeLinuxSLL, record{cooked1, 0}), nano},
		"Linux cooked 2":              {pcap(binary.LittleEndian, true, layers.LinkTypeLinuxSLL2, record{cooked2, 0}), nano},
	}
	for name, test := range tests {
		t.Run(name, func(t *testing.T) {
			got := readAll(test.file)
			require.NoError(t, got.err)
			assert.Empty(t, got.skipped)
			require.Len(t, got.seen, 1)
			s := got.seen[0]
			assert.Equal(t, 1, s.Frame)
			assert.True(t, s.At.Equal(test.at), "%v", s.At)
			assert.Equal(t, dhcp.Discover, s.Message.Type)
			assert.Equal(t, uint32(0x3903f326), s.Message.XID)
			assert.Equal(t, ticket.String(), s.Message.Client.String())
			assert.Equal(t, netip.MustParseAddrPort("0.0.0.0:68"), s.From)
			assert.Equal(t, netip.MustParseAddrPort("255.255.255.255:67"), s.To)
		})
	}
	mixed := readAll(
		pcapng(t, map[layers.LinkType][]byte{layers.LinkTypeEthernet: plain, layers.LinkTypeRaw: raw, layers.LinkTypeLinuxSLL: cooked1}))
	assert.Len(t, mixed.seen, 3, "ports of different kinds in one file: %v", mixed.skipped)
}

func TestOptionsInOtherFields(t *testing.T) {
	long := strings.Repeat("kittiwake.", 30)
	m := message(t, dhcpv4.WithGeneric(dhcpv4.GenericOptionCode(114), []byte(long)))
	// Option overload: the captive portal's address goes on in the field file, and a name stands in sname (RFC 2131 §4.1, RFC 3396).
	options := []byte{53, 1, 1, 52, 1, 3, 114, 4, 'h', 't', 't', 'p', 255}
	over := append(bytes.Clone(m[:240]), options...)
	copy(over[108:236], append([]byte{114, 4, 's', ':', '/', '/', 255}, make([]byte, 121)...))
	copy(over[44:108], append([]byte{12, 9}, "ticket-03\xff"...))
	got := readAll(pcap(binary.LittleEndian, true, layers.LinkTypeEthernet, record{ethernet(t, m), 0}, record{ethernet(t, over), 0}))
	require.Len(t, got.seen, 2, got.skipped)
	portal, _ := got.seen[0].Message.Option(114)
	assert.Equal(t, long, string(portal), "an option longer than 255 octets")
	portal, _ = got.seen[1].Message.Option(114)
	assert.Equal(t, "https://", string(portal))
	assert.Equal(t, "ticket-03", got.seen[1].Message.Hostname())
}

func TestBadFiles(t *testing.T) {
	m := message(t, dhcpv4.WithOption(dhcpv4.OptHostName("tic\x1b]0;ket")), dhcpv4.WithGeneric(dhcpv4.GenericOptionCode(43), nil))
	frame := ethernet(t, m)
	good := pcap(binary.LittleEndian, true, layers.LinkTypeEthernet, record{frame, 0})
	noCookie := bytes.Clone(m)
	noCookie[236] = 0
	past := append(bytes.Clone(m[:240]), 53, 1, 1, 12, 200, 'x')
	bootp := append(bytes.Clone(m[:240]), 12, 1, 'x', 255)
	wide := bytes.Clone(m)
	wide[2] = 200
	link := layers.LinkTypeEthernet
	tests := map[string]struct {
		file    []byte
		err     string
		seen    int
		skipped string
	}{
		"empty":                        {nil, "the file is empty", 0, ""},
		"no capture":                   {[]byte("lease { interface eth0; }"), "no capture: neither pcap nor pcapng", 0, ""},
		"three octets":                 {[]byte{0xd4, 0xc3, 0xb2}, "no capture: shorter than the header of one", 0, ""},
		"the header alone, cut":        {good[:20], "no capture: the pcap header is damaged", 0, ""},
		"compressed":                   {[]byte{0x1f, 0x8b, 8, 0, 0}, "the file is compressed: unpack it first", 0, ""},
		"pcapng, its header cut":       {[]byte{0x0a, 0x0d, 0x0d, 0x0a, 28, 0, 0, 0}, "no capture: the pcapng header is damaged", 0, ""},
		"no frames":                    {good[:24], "", 0, ""},
		"ends within the second frame": {append(bytes.Clone(good), good[24:80]...), "", 1, "2: cut short: the file ends within the frame"},
		"a length that is none": {append(bytes.Clone(good), bytes.Repeat([]byte{0xff}, 16)...), "", 1,
			"2: damaged here, and not readable any further"},
		"cut in the headers":     {pcap(binary.LittleEndian, true, link, record{frame, len(frame) - 20}), "", 0, "1: cut short"},
		"cut before the options": {pcap(binary.LittleEndian, true, link, record{frame, len(frame) - 200}), "", 0, "1: cut short"},
		"cut within the options": {
			pcap(binary.LittleEndian, true, link, record{ethernet(t, message(t)), len(ethernet(t, message(t))) - 14 - 20 - 8 - 240 - 5}),
			"", 1, ""},
		"an option past the end": {pcap(binary.LittleEndian, true, link, record{ethernet(t, past), 0}), "", 1, ""},
		"no magic cookie": {pcap(binary.LittleEndian, true, link, record{ethernet(t, noCookie), 0}), "", 0,
			"1: no DHCP message: the magic cookie is missing"},
		"a hardware address too long": {pcap(binary.LittleEndian, true, link, record{ethernet(t, wide), 0}), "", 0,
			"1: no DHCP message: its header makes no sense"},
		"BOOTP": {pcap(binary.LittleEndian, true, link, record{ethernet(t, bootp), 0}), "", 0,
			"1: a BOOTP message: it has no DHCP message type"},
		"ten octets": {pcap(binary.LittleEndian, true, link, record{ethernet(t, m[:10]), 0}), "", 0,
			"1: too short for a DHCP message"},
		"an unknown kind of link": {pcap(binary.LittleEndian, true, 147, record{frame, 0}), "", 0,
			"1: its link type is not known here"},
		"not about DHCP": {
			pcap(binary.LittleEndian, true, link,
				record{packed(t, &layers.Ethernet{SrcMAC: ticket, DstMAC: ticket, EthernetType: layers.EthernetTypeARP},
					gopacket.Payload(make([]byte, 46))), 0}), "", 0, ""},
	}
	for name, test := range tests {
		t.Run(name, func(t *testing.T) {
			got := readAll(test.file)
			if test.err != "" {
				require.Error(t, got.err)
				assert.Contains(t, got.err.Error(), test.err)
				return
			}
			require.NoError(t, got.err)
			assert.Len(t, got.seen, test.seen)
			if test.skipped == "" {
				assert.Empty(t, got.skipped)
			} else {
				require.Len(t, got.skipped, 1)
				assert.Contains(t, got.skipped[0], test.skipped)
			}
		})
	}
	cut := readAll(tests["cut within the options"].file).seen[0].Message
	assert.Equal(t, "cut short: its last options are missing", cut.Cut)
	assert.Equal(t, "its options run past its end", readAll(tests["an option past the end"].file).seen[0].Message.Cut)
	assert.Equal(t, `tic\x1b]0;ket`, readAll(good).seen[0].Message.Hostname())
}

// A datagram in parts is not put together; that it was one is said.
func TestFragment(t *testing.T) {
	ip := inIP(message(t))
	ip[0].(*layers.IPv4).Flags = layers.IPv4MoreFragments
	frame := packed(t,
		append([]gopacket.SerializableLayer{
			&layers.Ethernet{SrcMAC: ticket, DstMAC: layers.EthernetBroadcast, EthernetType: layers.EthernetTypeIPv4}}, ip...)...)
	got := readAll(pcap(binary.LittleEndian, true, layers.LinkTypeEthernet, record{frame, 0}))
	require.Len(t, got.skipped, 1)
	assert.Contains(t, got.skipped[0], "a fragment")
}

// endless repeats one file's frames until a size is reached, without holding them.
type endless struct {
	head, body []byte
	left       int64
	at         int
}

func (e *endless) Read(b []byte) (n int, err error) {
	if len(e.head) > 0 {
		n = copy(b, e.head)
		e.head = e.head[n:]
		return n, nil
	}
	if e.left <= 0 && e.at == 0 {
		return 0, io.EOF
	}
	n = copy(b, e.body[e.at:])
	e.at = (e.at + n) % len(e.body)
	e.left -= int64(n)
	return n, nil
}

// mixed is traffic with one DHCP message in n frames.
func mixedFrames(t testing.TB, n int) (head, body []byte) {
	payload := bytes.Repeat([]byte("x"), 400)
	var records []record
	for i := range n {
		eth := &layers.Ethernet{SrcMAC: ticket, DstMAC: ticket, EthernetType: layers.EthernetTypeIPv4}
		ip := &layers.IPv4{Version: 4, TTL: 64, SrcIP: net.IP{172, 27, 40, 23}, DstIP: net.IP{203, 0, 113, 80}}
		switch {
		case i == n/2:
			records = append(records, record{ethernet(t, message(t, dhcpv4.WithOption(dhcpv4.OptHostName("ticket-03")))), 0})
		case i%2 == 0:
			ip.Protocol = layers.IPProtocolUDP
			records = append(records, record{packed(t, eth, ip, &layers.UDP{SrcPort: 40000, DstPort: 443}, gopacket.Payload(payload)), 0})
		default:
			ip.Protocol = layers.IPProtocolTCP
			records = append(records, record{packed(t, eth, ip, gopacket.Payload(payload)), 0})
		}
	}
	file := pcap(binary.LittleEndian, true, layers.LinkTypeEthernet, records...)
	return file[:24], file[24:]
}

// each is a tracker that has something done after each message.
type each struct {
	*dhcp.Tracker
	then func()
}

func (e each) Take(s dhcp.Sighting) *dhcp.Exchange { x := e.Tracker.Take(s); e.then(); return x }

// A server process that is gone shows as ICMP after the unicast request (RFC 792).
func TestNobodyListens(t *testing.T) {
	client, server := net.IP{172, 27, 40, 23}, net.IP{172, 27, 40, 2}
	eth := &layers.Ethernet{SrcMAC: ticket, DstMAC: ticket, EthernetType: layers.EthernetTypeIPv4}
	m, err := dhcpv4.New(dhcpv4.WithMessageType(dhcpv4.MessageTypeRequest), dhcpv4.WithHwAddr(ticket), dhcpv4.WithClientIP(client))
	require.NoError(t, err)
	asked := []gopacket.SerializableLayer{&layers.IPv4{Version: 4, TTL: 64, Protocol: layers.IPProtocolUDP, SrcIP: client, DstIP: server},
		&layers.UDP{SrcPort: 68, DstPort: 67}, gopacket.Payload(m.ToBytes())}
	quote := packed(t, asked...)[:28]
	says := packed(t, eth, &layers.IPv4{Version: 4, TTL: 64, Protocol: layers.IPProtocolICMPv4, SrcIP: server, DstIP: client},
		&layers.ICMPv4{TypeCode: layers.CreateICMPv4TypeCode(3, 3)}, gopacket.Payload(quote))
	file := pcap(binary.LittleEndian, true, layers.LinkTypeEthernet,
		record{packed(t, append([]gopacket.SerializableLayer{eth}, asked...)...), 0}, record{says, 0})
	assert.Equal(t, []dhcp.Unserved{{Frame: 2, Server: netip.MustParseAddr("172.27.40.2"), Client: netip.MustParseAddr("172.27.40.23")}},
		readAll(file).unserved)
	var ended []*dhcp.Exchange
	tracker := dhcp.NewTracker(dhcp.Config{Ended: func(e *dhcp.Exchange) { ended = append(ended, e) }})
	_, err = capture.DHCP(bytes.NewReader(file), tracker, func(int, string) {})
	require.NoError(t, err)
	tracker.Close()
	require.Len(t, ended, 1)
	assert.Equal(t, dhcp.Unanswered, ended[0].Outcome)
	assert.Contains(t, strings.Join(ended[0].Remarks, "\n"), "172.27.40.2 says that nothing listens on its DHCP port")
}

// TestConstantMemory reads 2 GiB made by repetition, exchanges and all.
func TestConstantMemory(t *testing.T) {
	size := int64(2 << 30)
	if testing.Short() {
		size = 64 << 20
	}
	head, body := mixedFrames(t, 100)
	tracker := dhcp.NewTracker(dhcp.Config{})
	peak, n := uint64(0), 0
	frames, err := capture.DHCP(&endless{head: head, body: body, left: size}, each{tracker, func() {
		if n++; n%5000 == 0 {
			var m runtime.MemStats
			runtime.ReadMemStats(&m)
			peak = max(peak, m.HeapAlloc)
		}
	}}, func(int, string) { t.Error("nothing is to be skipped") })
	require.NoError(t, err)
	assert.InDelta(t, float64(size)/float64(len(body))*100, frames, 200)
	assert.Less(t, peak, uint64(64<<20))
	fmt.Fprintf(os.Stdout, "capture of %d MiB: %d frames, %d DHCP messages, at most %.1f MiB of heap\n", size>>20, frames, tracker.Messages,
		float64(peak)/(1<<20))
}

// A million exchanges of as many clients: what is open is capped, and the cap is reported.
func TestAMillionExchanges(t *testing.T) {
	n := 1_000_000
	if testing.Short() {
		n = 50_000
	}
	ended := 0
	tracker := dhcp.NewTracker(dhcp.Config{Ended: func(*dhcp.Exchange) { ended++ }})
	s := readAll(pcap(binary.LittleEndian, true, layers.LinkTypeEthernet, record{ethernet(t, message(t)), 0})).seen[0]
	for i := range n {
		s.Message.Client = dhcp.HardwareFrom([]byte{2, 0, 0, byte(i >> 16), byte(i >> 8), byte(i)})
		tracker.Take(s)
	}
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	tracker.Close()
	assert.Equal(t, n, ended)
	assert.Equal(t, n-dhcp.MostClients, tracker.Evicted)
	assert.Less(t, m.HeapAlloc, uint64(128<<20))
}

// TestReadingSpeed prints how fast reading is beside the bare decoders of the packet library, in one run.
func TestReadingSpeed(t *testing.T) {
	const size = 192 << 20
	head, body := mixedFrames(t, 100)
	bare := func() {
		r, err := pcapgo.NewReader(&endless{head: head, body: body, left: size})
		require.NoError(t, err)
		var eth layers.Ethernet
		var ip layers.IPv4
		var udp layers.UDP
		p := gopacket.NewDecodingLayerParser(layers.LayerTypeEthernet, &eth, &ip, &udp)
		p.IgnoreUnsupported = true
		var found []gopacket.LayerType
		for {
			data, _, err := r.ZeroCopyReadPacketData()
			if err != nil {
				return
			}
			_ = p.DecodeLayers(data, &found)
		}
	}
	dhcpHead, dhcpBody := mixedFrames(t, 1)
	full := func() {
		r, err := pcapgo.NewReader(&endless{head: dhcpHead, body: dhcpBody, left: size / 4})
		require.NoError(t, err)
		for {
			data, _, err := r.ReadPacketData()
			if err != nil {
				return
			}
			_ = gopacket.NewPacket(data, layers.LayerTypeEthernet, gopacket.Default).Layers()
		}
	}
	ours := func(head, body []byte, size int64) func() {
		return func() {
			tracker := dhcp.NewTracker(dhcp.Config{})
			_, err := capture.DHCP(&endless{head: head, body: body, left: size}, tracker, func(int, string) {})
			require.NoError(t, err)
			tracker.Close()
		}
	}
	best := func(f func()) time.Duration { // of three, so that a stall of the machine counts for neither
		least := time.Duration(1 << 62)
		for range 3 {
			began := time.Now()
			f()
			least = min(least, time.Since(began))
		}
		return least
	}
	a, b := best(bare), best(ours(head, body, size))
	c, d := best(full), best(ours(dhcpHead, dhcpBody, size/4))
	fmt.Fprintf(os.Stdout, "capture, one DHCP message in 100: %.0f %% of the speed of a bare DecodingLayerParser\n",
		100*a.Seconds()/b.Seconds())
	fmt.Fprintf(os.Stdout, "capture of DHCP alone: %.0f %% of the speed of NewPacket with Layers\n", 100*c.Seconds()/d.Seconds())
	assert.Greater(t, a.Seconds()/b.Seconds(), 0.2)
	assert.Greater(t, c.Seconds()/d.Seconds(), 0.2)
}

func FuzzCapture(f *testing.F) {
	frame := ethernet(f, message(f))
	f.Add(pcap(binary.LittleEndian, true, layers.LinkTypeEthernet, record{frame, 0}, record{frame, 100}))
	f.Add(pcap(binary.BigEndian, false, layers.LinkTypeLinuxSLL2, record{frame, 0}))
	f.Add(pcapng(f, map[layers.LinkType][]byte{layers.LinkTypeEthernet: frame}))
	f.Fuzz(func(t *testing.T, file []byte) {
		tracker := dhcp.NewTracker(dhcp.Config{})
		_, _ = capture.DHCP(bytes.NewReader(file), tracker, func(int, string) {})
		for _, e := range tracker.Open() {
			for _, s := range e.Steps {
				for _, o := range s.Message.Described() {
					if len(o.Value) > 1<<14 {
						t.Fatalf("option %d fills %d octets", o.Code, len(o.Value))
					}
				}
			}
		}
		tracker.Close()
	})
}
