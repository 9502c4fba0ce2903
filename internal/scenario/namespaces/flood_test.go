//go:build linux

package namespaces_test

import (
	bin "encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"net/netip"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/vishvananda/netlink"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/machine"
	"passepartout/internal/machine/linux"
	"passepartout/internal/machine/wire"
	"passepartout/internal/scenario"
	"passepartout/internal/scenario/namespaces"
)

// evil is text as strangers send it: it clears a screen, turns its direction and begins as a formula.
const evil = "=\x1b[2J\x1b]0;x\x07\u202etxt"

// strangers makes one frame of each kind that strangers may send, of somebody whom nobody knows.
func strangers(rng *rand.Rand) [][]byte {
	hw := endpoint.HardwareAddr{2, byte(rng.Uint32()), byte(rng.Uint32()), byte(rng.Uint32()), byte(rng.Uint32()), byte(rng.Uint32())}
	all := endpoint.HardwareAddr{255, 255, 255, 255, 255, 255}
	// whom nobody needs: to take the others is a fault of its own
	somebody := netip.AddrFrom4([4]byte{172, 27, 40, byte(100 + rng.IntN(150))})
	far := netip.AddrFrom4([4]byte{10, byte(rng.Uint32()), byte(rng.Uint32()), byte(rng.Uint32())})
	local := netip.AddrFrom16([16]byte{0xfe, 0x80, 14: byte(rng.Uint32()), 15: byte(rng.Uint32())})
	prefix := netip.PrefixFrom(netip.AddrFrom16([16]byte{0x20, 1, 0xd, 0xb8, 4: byte(rng.Uint32()), 5: byte(rng.Uint32())}), 64)
	name := fmt.Sprintf("%s-%d.local.", "x\\027[2J", rng.Uint32())
	mdns := new(dns.Msg)
	mdns.Response = true
	mdns.Answer = []dns.RR{
		&dns.PTR{Hdr: dns.RR_Header{Name: somebody.String() + ".in-addr.arpa.", Rrtype: dns.TypePTR, Class: dns.ClassINET, Ttl: 120},
			Ptr: name}, &dns.A{Hdr: dns.RR_Header{Name: name, Rrtype: dns.TypeA, Class: dns.ClassINET, Ttl: 120}, A: somebody.AsSlice()}}
	answer, err := mdns.Pack()
	if err != nil {
		panic(err)
	}
	group := endpoint.HardwareAddr{1, 0, 0x5e, 0, 0, 0xfb}
	xid := rng.Uint32()
	offer := &layers.DHCPv4{Operation: layers.DHCPOpReply, HardwareType: layers.LinkTypeEthernet, HardwareLen: 6, Xid: xid,
		ClientHWAddr: hw[:],
		YourClientIP: somebody.AsSlice(), Options: layers.DHCPOptions{
			layers.NewDHCPOption(layers.DHCPOptMessageType, []byte{byte(layers.DHCPMsgTypeOffer + layers.DHCPMsgType(rng.IntN(4)))}),
			layers.NewDHCPOption(layers.DHCPOptServerID, far.AsSlice()), layers.NewDHCPOption(layers.DHCPOptHostname, []byte(evil)),
			layers.NewDHCPOption(114, []byte("http://127.0.0.1/?reboot=1")), layers.NewDHCPOption(layers.DHCPOptEnd, nil)}}
	b := gopacket.NewSerializeBuffer()
	if err := gopacket.SerializeLayers(b, gopacket.SerializeOptions{FixLengths: true}, offer); err != nil {
		panic(err)
	}
	noise := make([]byte, 60+rng.IntN(900))
	for i := range noise {
		noise[i] = byte(rng.Uint32())
	}
	copy(noise, all[:])
	copy(noise[6:], hw[:])
	bin.BigEndian.PutUint16(noise[12:], []uint16{0x0800, 0x0806, 0x86dd, 0x88cc}[rng.IntN(4)])
	return [][]byte{
		wire.ARPReply(hw, somebody, all, far), wire.ARPRequest(hw, far, somebody),
		wire.RouterAdvertisement(hw, local,
			wire.Advertised{Lifetime: 1800 * time.Second, Prefix: prefix, Valid: time.Hour, CaptivePortal: "http://[::1]/",
				Resolvers: []netip.Addr{prefix.Addr().Next()}}),
		wire.UDPFrame(hw, group, netip.AddrPortFrom(somebody, 5353), netip.MustParseAddrPort("224.0.0.251:5353"), answer),
		wire.UDPFrame(hw, all, netip.AddrPortFrom(far, 67), netip.MustParseAddrPort("255.255.255.255:68"), b.Bytes()),
		wire.LLDPFrame(hw, evil, evil, rng.IntN(65536)), noise,
	}
}

// flood sends what strangers send from a neighbour's port, that many frames a second, until it is ended.
func flood(t *testing.T, l *namespaces.Lab, rate int) (end func() (sent int)) {
	live, err := linux.New()
	require.NoError(t, err)
	var port machine.FrameSocket
	require.NoError(t, l.On("office-store", func() (err error) {
		port, err = live.OpenFrames(machine.FrameConfig{Interface: "eth0"})
		return err
	}))
	rng := rand.New(rand.NewPCG(5, 6))
	var frames [][]byte
	for range 8000 {
		frames = append(frames, strangers(rng)...)
	}
	stop := make(chan struct{})
	sent := 0
	began := time.Now()
	var wg sync.WaitGroup
	wg.Go(func() {
		for {
			for due := int(time.Since(began).Seconds() * float64(rate)); sent < due; sent++ {
				_ = port.Send(frames[sent%len(frames)])
			}
			select {
			case <-stop:
				return
			case <-time.After(2 * time.Millisecond):
			}
		}
	})
	return func() int { close(stop); wg.Wait(); port.Close(); return sent }
}

// The bounds of what a command may take, whatever strangers do.
const (
	mostMemory = 120 << 20
	mostLonger = time.Second
)

// A check that goes on for long, since its name servers keep silent, stays as small.
func TestStrangersForLong(t *testing.T) {
	l := build(t, "resolver-silent", nil)
	end := flood(t, l, 20_000)
	o, err := l.Measure(namespaces.Root, binary, "check", "--format", "json", "bookings.kittiwake.example:443")
	require.NoError(t, err)
	sent := end()
	var r result
	require.NoError(t, json.Unmarshal([]byte(o.Stdout), &r), "%s%s", o.Stdout, o.Stderr)
	assert.Less(t, o.Peak, int64(mostMemory))
	assert.Less(t, len(o.Stdout), 8<<20)
	if r.Verdict.Confidence == "certain" {
		assert.Equal(t, "resolver-silent", r.Verdict.Fault)
	}
	fmt.Printf("strangers for %.1f s: %d frames, %d MiB, %d KiB of JSON: %s %s, %s\n", o.Took.Seconds(), sent, o.Peak>>20,
		len(o.Stdout)>>10,
		r.Verdict.Zone, r.Verdict.Fault, r.Verdict.Confidence)
}

// All strangers at once do not make a healthy target a faulty one, nor a check slow or large.
func TestAllStrangersAtOnce(t *testing.T) {
	if why := namespaces.Unavailable(); why != "" {
		t.Skip(why)
	}
	runs := 3
	if *every {
		runs = 20
	}
	s, err := scenario.Load("healthy")
	require.NoError(t, err)
	l := build(t, "healthy", nil)
	check := func() namespaces.Outcome {
		o, err := l.Measure(namespaces.Root, binary, "check", "--format", "json", s.Target)
		require.NoError(t, err)
		return o
	}
	alone := check()
	end := flood(t, l, 20_000)
	began := time.Now()
	time.Sleep(200 * time.Millisecond)
	var worst namespaces.Outcome
	for range runs {
		o := check()
		var r result
		require.NoError(t, json.Unmarshal([]byte(o.Stdout), &r), "%s%s", o.Stdout, o.Stderr)
		assert.Equal(t, "none", r.Verdict.Zone, r.Verdict.Sentence)
		assert.NotContains(t, o.Stdout+o.Stderr, "\x1b")
		assert.NotContains(t, o.Stdout, "\u202e")
		worst.Peak, worst.Took = max(worst.Peak, o.Peak), max(worst.Took, o.Took)
	}
	commands := []string{"neighbours --for 2s --format json", "dhcp --wait 1s", "watch --for 3s", "trace " + s.Target}
	if *every {
		commands = append(commands, "neighbours --ask --for 10s", "dhcp --wait 10s", "watch --for 60s", "free", "lease",
			"names bookings.kittiwake.example", "ping --count 10 172.27.40.1")
	}
	for _, args := range commands {
		o, err := l.Measure(namespaces.Root, binary, strings.Fields(args)...)
		require.NoError(t, err)
		assert.Contains(t, []int{0, 1, 2}, o.Status, "%s: %s", args, o.Stderr)
		assert.NotContains(t, o.Stdout+o.Stderr, "\x1b", args)
		assert.NotContains(t, o.Stdout+o.Stderr, "\u202e", args)
		assert.Less(t, o.Peak, int64(mostMemory), args)
		fmt.Printf("strangers: %-36s %5.1f s, %3d MiB\n", args, o.Took.Seconds(), o.Peak>>20)
	}
	sent, took := end(), time.Since(began)
	assert.Less(t, worst.Peak, int64(mostMemory))
	fmt.Printf("strangers: %d runs beside %.0f frames a second: at most %v (alone %v), %d MiB (alone %d)\n", runs,
		float64(sent)/took.Seconds(),
		worst.Took.Round(time.Millisecond), alone.Took.Round(time.Millisecond), worst.Peak>>20, alone.Peak>>20)
}

// A machine of five hundred interfaces and five thousand addresses, of which routes change all the time, is a machine.
func TestManyInterfacesManyAddresses(t *testing.T) {
	l := build(t, "healthy", nil)
	stop, done := make(chan struct{}), make(chan error, 1)
	require.NoError(t, l.On("ticket-03", func() error {
		for i := range 250 {
			pair := &netlink.Veth{LinkAttrs: netlink.LinkAttrs{Name: fmt.Sprintf("many%da", i)}, PeerName: fmt.Sprintf("many%db", i)}
			if err := netlink.LinkAdd(pair); err != nil {
				return err
			}
			for side, name := range []string{pair.Name, pair.PeerName} {
				link, err := netlink.LinkByName(name)
				if err != nil {
					return err
				}
				for k := range 10 {
					a := net.IPNet{IP: net.IPv4(10, byte(100+side), byte(i), byte(k+1)), Mask: net.CIDRMask(32, 32)}
					if err := netlink.AddrAdd(link, &netlink.Addr{IPNet: &a}); err != nil {
						return err
					}
				}
				if err := netlink.LinkSetUp(link); err != nil {
					return err
				}
			}
		}
		return nil
	}))
	go func() {
		done <- l.On("ticket-03", func() error {
			to := net.IPNet{IP: net.IPv4(192, 0, 2, 0), Mask: net.CIDRMask(24, 32)}
			for {
				select {
				case <-stop:
					return nil
				default:
				}
				route := &netlink.Route{Dst: &to, Gw: net.IPv4(172, 27, 40, 1)}
				if err := errors.Join(netlink.RouteReplace(route), netlink.RouteDel(route)); err != nil {
					return err
				}
			}
		})
	}()
	defer func() { close(stop); require.NoError(t, <-done) }()
	o, err := l.Measure(namespaces.Root, binary, "check", "--format", "json", "bookings.kittiwake.example:443")
	require.NoError(t, err)
	var r result
	require.NoError(t, json.Unmarshal([]byte(o.Stdout), &r), "%s%s", o.Stdout, o.Stderr)
	assert.Equal(t, "none", r.Verdict.Zone, r.Verdict.Sentence)
	assert.Less(t, o.Peak, int64(mostMemory))
	w, err := l.Measure(namespaces.Root, binary, "watch", "--for", "5s", "bookings.kittiwake.example:443")
	require.NoError(t, err)
	assert.Less(t, w.Peak, int64(mostMemory))
	assert.Less(t, w.CPU, 4*time.Second)
	fmt.Printf("500 interfaces, 5,000 addresses, routes that change: check %v, %d MiB; watch: %.0f %% of a core, %d MiB\n",
		o.Took.Round(time.Millisecond),
		o.Peak>>20, w.CPU.Seconds()/w.Took.Seconds()*100, w.Peak>>20)
}
