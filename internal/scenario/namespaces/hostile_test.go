//go:build linux

package namespaces_test

import (
	bin "encoding/binary"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net"
	"net/netip"
	"sync"
	"testing"
	"time"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/machine"
	"passepartout/internal/machine/linux"
	"passepartout/internal/machine/wire"
	"passepartout/internal/scenario"
	"passepartout/internal/scenario/namespaces"
)

var (
	counter  = netip.MustParseAddr("172.27.40.23")
	bookings = netip.MustParseAddr("203.0.113.80")
	stranger = netip.MustParseAddr("192.0.2.66")
)

// forged is an ICMP "host unreachable" of a stranger about a packet of ours to a port of the target, by guesswork: the ports of a socket
// and its numbers are not known to him.
func forged(to, from endpoint.HardwareAddr, proto layers.IPProtocol, port uint16) []byte {
	quoted := make([]byte, 8)
	bin.BigEndian.PutUint16(quoted, uint16(32768+rand.IntN(28232)))
	bin.BigEndian.PutUint16(quoted[2:], port)
	if proto == layers.IPProtocolICMPv4 { // an echo request of some identifier
		quoted[0], quoted[1] = 8, 0
		bin.BigEndian.PutUint16(quoted[4:], uint16(rand.IntN(1<<16)))
	}
	ours := &layers.IPv4{Version: 4, TTL: 60, Protocol: proto, SrcIP: counter.AsSlice(), DstIP: bookings.AsSlice()}
	inner, outer := gopacket.NewSerializeBuffer(), gopacket.NewSerializeBuffer()
	o := gopacket.SerializeOptions{FixLengths: true, ComputeChecksums: true}
	if err := gopacket.SerializeLayers(inner, o, ours, gopacket.Payload(quoted)); err != nil {
		panic(err)
	}
	err := gopacket.SerializeLayers(outer, o,
		&layers.Ethernet{SrcMAC: wire.HardwareOf(from), DstMAC: wire.HardwareOf(to), EthernetType: layers.EthernetTypeIPv4},
		&layers.IPv4{Version: 4, TTL: 58, Protocol: layers.IPProtocolICMPv4, SrcIP: stranger.AsSlice(), DstIP: counter.AsSlice()},
		&layers.ICMPv4{TypeCode: layers.CreateICMPv4TypeCode(layers.ICMPv4TypeDestinationUnreachable, layers.ICMPv4CodeHost)},
		gopacket.Payload(inner.Bytes()))
	if err != nil {
		panic(err)
	}
	return outer.Bytes()
}

// lie floods the endpoint from a neighbour until it is ended: with claims of everybody's address, the endpoint's own among them, and with
// forged errors.
func lie(t *testing.T, l *namespaces.Lab, s *scenario.Scenario) (end func()) {
	live, err := linux.New()
	require.NoError(t, err)
	var port machine.FrameSocket
	require.NoError(t, l.On("office-store", func() (err error) {
		port, err = live.OpenFrames(machine.FrameConfig{Interface: "eth0"})
		return err
	}))
	victim, liar := s.Site.HardwareOf("ticket-03", "eth0"), s.Site.HardwareOf("office-store", "eth0")
	stop := make(chan struct{})
	var wg sync.WaitGroup
	wg.Go(func() {
		for round := 0; ; round++ {
			for range 40 {
				// the gateway and the name server are left alone: taking those is a fault of its own
				a := netip.AddrFrom4([4]byte{172, 27, 40, byte(3 + rand.IntN(250))})
				frames := [][]byte{wire.ARPReply(liar, a, victim, counter), forged(victim, liar, layers.IPProtocolTCP, 443),
					forged(victim, liar, layers.IPProtocolUDP, 33434), forged(victim, liar, layers.IPProtocolICMPv4, 0)}
				for _, f := range frames {
					_ = port.Send(f)
				}
			}
			select {
			case <-stop:
				return
			case <-time.After(10 * time.Millisecond):
			}
		}
	})
	return func() { close(stop); wg.Wait(); port.Close() }
}

// A neighbour that lies does not make a wrong verdict certain, and makes no healthy machine a faulty one.
func TestANeighbourThatLies(t *testing.T) {
	t.Parallel()
	watched := &score{}
	for _, c := range []struct{ name, zone, fault string }{
		{name: "healthy", zone: "none"},
		{name: "destination-silent", zone: "beyond", fault: "destination-silent"},
		{name: "service-filtered", zone: "beyond", fault: "service-filtered"},
	} {
		t.Run(c.name, func(t *testing.T) {
			s, err := scenario.Load(c.name)
			require.NoError(t, err)
			l := build(t, c.name, nil)
			defer lie(t, l, s)()
			time.Sleep(50 * time.Millisecond) // it is under way when the tests begin
			_, bad := watched.undisturbed(t, func() (result, []string) {
				r, _ := check(t, l, s.Target)
				wrong := r.Verdict.Zone != c.zone || r.Verdict.Fault != c.fault
				if r.Verdict.Fault == "path-slow" { // a lab is one machine: what floods a segment of it slows the routers beyond too
					return r, nil
				}
				if wrong && (r.Verdict.Confidence == "certain" || c.zone == "none") {
					return r, []string{fmt.Sprintf("%s %q, %s: %s", r.Verdict.Zone, r.Verdict.Fault, r.Verdict.Confidence, r.Verdict.Sentence)}
				}
				return r, nil
			})
			assert.Empty(t, bad)
		})
	}
}

// A name server that answers other questions than were put is not believed: nothing that it says is tried.
func TestAnAnswerToAnotherQuestion(t *testing.T) {
	l := build(t, "healthy", func(s *scenario.Scenario) {
		s.Site.Nodes["ticket-03"].Resolvers = []netip.Addr{netip.MustParseAddr("172.27.40.70")}
	})
	var conn net.PacketConn
	require.NoError(t, l.On("office-store", func() (err error) {
		conn, err = net.ListenPacket("udp4", "172.27.40.70:53")
		return err
	}))
	server := &dns.Server{PacketConn: conn, Handler: dns.HandlerFunc(func(w dns.ResponseWriter, q *dns.Msg) {
		a := new(dns.Msg)
		a.SetReply(q)
		a.Question[0].Name = "elsewhere.example."
		a.Answer = []dns.RR{
			&dns.A{Hdr: dns.RR_Header{Name: "elsewhere.example.", Rrtype: dns.TypeA, Class: dns.ClassINET, Ttl: 60}, A: stranger.AsSlice()}}
		_ = w.WriteMsg(a)
	})}
	go func() { _ = server.ActivateAndServe() }()
	defer func() { _ = server.Shutdown() }()
	out, errs, _, err := l.Run(namespaces.Root, binary, "check", "--format", "json", "bookings.kittiwake.example:443")
	require.NoError(t, err)
	var r result
	require.NoError(t, json.Unmarshal([]byte(out), &r), "%s%s", out, errs)
	assert.NotContains(t, out, stranger.String())
	assert.NotEqual(t, "none", r.Verdict.Zone)
	assert.NotEqual(t, "name-not-found", r.Verdict.Fault)
}
