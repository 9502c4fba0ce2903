// Package machinetest holds what every machine.Machine must do, whatever it stands on: the same questions to the healthy demonstration
// site, with the rule that a failing machine breaks.
package machinetest

import (
	"context"
	"errors"
	"io/fs"
	"net"
	"net/netip"
	"testing"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/dhcp"
	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/machine"
	"passepartout/internal/machine/shared"
	"passepartout/internal/machine/wire"
)

// Ground is a machine at the endpoint of the healthy demonstration site.
type Ground struct {
	Machine machine.Machine
	Do      func(func())                // runs f where the machine's sockets may be opened
	Switch  func(t *testing.T, up bool) // takes the interface eth0 down, or up again
}

var (
	gateway  = netip.MustParseAddr("172.27.40.1")
	core     = netip.MustParseAddr("172.27.40.2")
	printer  = netip.MustParseAddr("172.27.40.50")
	nobody   = netip.MustParseAddr("172.27.40.99")
	own      = netip.MustParseAddr("172.27.40.23")
	bookings = netip.MustParseAddr("203.0.113.80")
)

// patience is more than any answer on a test site takes.
const patience = 3 * time.Second

// Run puts every question.
func Run(t *testing.T, g Ground) {
	for _, c := range []struct {
		name        string
		explanation string
		run         func(t *testing.T, m machine.Machine)
	}{
		{"a context that is over", "no method blocks for longer than its context allows, and none answers after it", contextOver},
		{"settings", "Read tells ports, addresses with their origin, routes and the neighbours' table", settings},
		{"routes", "Route is the system's own answer, for targets on the link, beyond, of its own, and for none", routes},
		{"echo", "an echo reply names its sender, its request and the hop limit it has left", echo},
		{"echo, hop limit", "a router that ends a packet says so, and says of which request", echoHopLimit},
		{"echo, IPv6", "both families work alike", echo6},
		{"echo, loopback", "the machine answers itself", echoLoopback},
		{"echo, closed", "Close ends Receive with net.ErrClosed", echoClosed},
		{"echo, too large", "a request that must not be split and does not fit the port is refused by the machine itself", echoTooLarge},
		{"flow, UDP", "packets of one flow are told apart by their numbers, wherever they end", flowUDP},
		{"flow, TCP", "segments of one flow likewise, and the service's answer counts", flowTCP},
		{"datagram, too large", "nor does a datagram that must not be split leave a port that it does not fit; one of full size arrives",
			datagramTooLarge},
		{"datagram, refused", "a closed port is that host's own refusal, told with ICMP type and code", datagramRefused},
		{"datagram, hop limit", "the hop limit of a datagram socket holds, and the error names the router", datagramHopLimit},
		{"datagram, silence", "a context ends Receive with its own error", datagramSilence},
		{"connect", "a connection opens and carries bytes", connect},
		{"connect, refused", "a reset is a refusal by the host itself", connectRefused},
		{"connect, hop limit", "a connection attempt that a router ends is told as such, with the router", connectHopLimit},
		{"connect, silence", "a context that ends before anything came gives Silent", connectSilence},
		{"frames", "an ARP request in a frame brings the neighbour's answer, and own frames are left out", frames},
		{"frames", "a port for DHCP alone hears what this machine sends and the answer, and nothing else", dhcpFrames},
		{"ports", "Interfaces tells the ports without loopback, and their counters grow with what passes", ports},
		{"frames, closed", "Close ends Receive with net.ErrClosed", framesClosed},
		{"no such port", "a port that is not there is ErrGone", gone},
	} {
		t.Run(c.name, func(t *testing.T) {
			g.Do(func() { c.run(t, g.Machine) })
			if t.Failed() {
				t.Log("the rule: " + c.explanation)
			}
		})
	}
	t.Run("down and up", func(t *testing.T) { g.Do(func() { downAndUp(t, g) }) }) // the last one: neighbours have to be found anew after it
}

func contextOver(t *testing.T, m machine.Machine) {
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err := m.Read(ctx)
	assert.ErrorIs(t, err, context.Canceled)
	_, err = m.Route(ctx, bookings, "")
	assert.ErrorIs(t, err, context.Canceled)
	_, err = m.Interfaces(ctx)
	assert.ErrorIs(t, err, context.Canceled)
	_, err = m.Neighbours(ctx)
	assert.ErrorIs(t, err, context.Canceled)
}

func framesClosed(t *testing.T, m machine.Machine) {
	port, err := m.OpenFrames(machine.FrameConfig{Interface: "eth0"})
	require.NoError(t, err)
	ended := make(chan error, 1)
	go func() {
		for {
			if _, _, err := port.Receive(); err != nil {
				ended <- err
				return
			}
		}
	}()
	time.Sleep(20 * time.Millisecond)
	require.NoError(t, port.Close())
	select {
	case err := <-ended:
		assert.ErrorIs(t, err, net.ErrClosed)
	case <-time.After(patience):
		t.Fatal("Receive goes on")
	}
}

// downAndUp: a socket for frames says when its interface goes down, so that nobody takes silence for quiet; when the interface is up again,
// another hears as before, and through package shared nobody need open another.
func downAndUp(t *testing.T, g Ground) {
	bare, err := g.Machine.OpenFrames(machine.FrameConfig{Interface: "eth0"})
	require.NoError(t, err)
	defer bare.Close()
	m := shared.New(g.Machine, nil)
	port, err := m.OpenFrames(machine.FrameConfig{Interface: "eth0"})
	require.NoError(t, err)
	defer port.Close()
	heard := make(chan netip.Addr, 64)
	go func() {
		for {
			frame, _, err := port.Receive()
			if err != nil {
				return
			}
			if f, ok := wire.ParseFrame(frame); ok && f.Claim.IsValid() {
				select {
				case heard <- f.Claim:
				default:
				}
			}
		}
	}()
	g.Switch(t, false)
	said := make(chan error, 1)
	go func() {
		for {
			if _, _, err := bare.Receive(); err != nil {
				said <- err
				return
			}
		}
	}()
	select {
	case err := <-said:
		assert.ErrorIs(t, err, machine.ErrDown)
	case <-time.After(patience):
		t.Error("a socket whose interface is down says nothing")
	}
	g.Switch(t, true)
	for began := time.Now(); time.Since(began) < 2*patience; time.Sleep(50 * time.Millisecond) {
		_ = port.Send(wire.ARPRequest(port.Hardware(), own, printer))
		select {
		case a := <-heard:
			if a == printer {
				return
			}
		default:
		}
	}
	t.Error("after the interface came back, nothing is heard")
}

func settings(t *testing.T, m machine.Machine) {
	e, err := m.Read(t.Context())
	require.NoError(t, err)
	eth0, ok := e.Interface("eth0")
	require.True(t, ok)
	assert.True(t, eth0.Up)
	assert.Equal(t, endpoint.CarrierPresent, eth0.Carrier)
	assert.Equal(t, endpoint.Wired, eth0.Kind)
	assert.Equal(t, 1500, eth0.MTU)
	assert.False(t, eth0.Hardware.IsZero())
	usable := eth0.Usable(false)
	require.Len(t, usable, 1)
	assert.Equal(t, netip.PrefixFrom(own, 24), usable[0].Prefix)
	assert.Equal(t, endpoint.ByDHCP, usable[0].Origin, "an address with a lifetime came from DHCP")
	assert.InDelta(t, (52 * time.Minute).Seconds(), usable[0].Valid.Seconds(), 60)
	require.Len(t, eth0.Usable(true), 1)
	gw, ok := e.Gateway("eth0", false)
	assert.True(t, ok)
	assert.Equal(t, gateway, gw)
	routes := e.DefaultRoutes(false)
	require.Len(t, routes, 1)
	assert.Equal(t, endpoint.ByDHCP, routes[0].Origin)
	assert.Len(t, e.DefaultRoutes(true), 1)
	lo, ok := e.Interface("lo")
	require.True(t, ok)
	assert.Equal(t, endpoint.LoopbackKind, lo.Kind)
}

func routes(t *testing.T, m machine.Machine) {
	for _, c := range []struct {
		to   netip.Addr
		want endpoint.RouteAnswer
	}{
		{bookings, endpoint.RouteAnswer{Verdict: endpoint.Forward, Interface: "eth0", Via: gateway, Source: own}},
		{core, endpoint.RouteAnswer{Verdict: endpoint.Forward, Interface: "eth0", Source: own}},
		{own, endpoint.RouteAnswer{Verdict: endpoint.LocalRoute, Interface: "lo", Source: own}},
	} {
		got, err := m.Route(t.Context(), c.to, "")
		require.NoError(t, err)
		c.want.To = c.to
		assert.Equal(t, c.want, got)
	}
}

// ask sends one echo request and returns what comes back to it.
func ask(t *testing.T, m machine.Machine, r machine.EchoRequest) machine.EchoArrival {
	port, err := m.OpenEcho(machine.EchoConfig{V6: r.To.Is6()})
	require.NoError(t, err)
	defer port.Close()
	stop := time.AfterFunc(patience, func() { port.Close() })
	defer stop.Stop()
	sent, err := port.Send(r)
	require.NoError(t, err)
	for {
		a, err := port.Receive()
		require.NoError(t, err, "nothing came back")
		if a.Seq != r.Seq {
			continue
		}
		assert.False(t, a.At.Before(sent), "received after it was sent")
		return a
	}
}

func echo(t *testing.T, m machine.Machine) {
	a := ask(t, m, machine.EchoRequest{To: bookings, Seq: 7, Payload: make([]byte, 48)})
	assert.Equal(t, evidence.Answered, a.Outcome)
	assert.Equal(t, bookings, a.From)
	assert.Equal(t, bookings, a.To)
	assert.Equal(t, 48, a.Size)
	assert.Equal(t, 60, a.HopLimitLeft, "four routers have lowered it")
}

func echoHopLimit(t *testing.T, m machine.Machine) {
	for hop, router := range map[int]string{1: "172.27.40.1", 2: "198.51.100.1", 3: "198.51.100.9", 4: "198.51.100.13"} {
		a := ask(t, m, machine.EchoRequest{To: bookings, Seq: uint16(100 + hop), HopLimit: hop, Payload: make([]byte, 24)})
		assert.Equal(t, evidence.Expired, a.Outcome)
		assert.Equal(t, router, a.From.String())
		assert.Equal(t, bookings, a.To, "the one who was asked")
		assert.Equal(t, uint8(11), a.ICMPType)
	}
}

func echo6(t *testing.T, m machine.Machine) {
	to := netip.MustParseAddr("2001:db8:113::70")
	a := ask(t, m, machine.EchoRequest{To: to, Seq: 9, Payload: make([]byte, 24)})
	assert.Equal(t, evidence.Answered, a.Outcome)
	assert.Equal(t, to, a.From)
	assert.Equal(t, 60, a.HopLimitLeft)
	a = ask(t, m, machine.EchoRequest{To: to, Seq: 10, HopLimit: 1, Payload: make([]byte, 24)})
	assert.Equal(t, evidence.Expired, a.Outcome)
	assert.Equal(t, "2001:db8:40::1", a.From.String())
}

func echoLoopback(t *testing.T, m machine.Machine) {
	a := ask(t, m, machine.EchoRequest{To: netip.MustParseAddr("127.0.0.1"), Seq: 1, Payload: make([]byte, 8)})
	assert.Equal(t, evidence.Answered, a.Outcome)
}

func echoClosed(t *testing.T, m machine.Machine) {
	port, err := m.OpenEcho(machine.EchoConfig{})
	require.NoError(t, err)
	ended := make(chan error)
	go func() { _, err := port.Receive(); ended <- err }()
	time.Sleep(10 * time.Millisecond)
	require.NoError(t, port.Close())
	select {
	case err := <-ended:
		assert.ErrorIs(t, err, net.ErrClosed)
	case <-time.After(patience):
		t.Error("Receive did not end")
	}
}

func datagram(t *testing.T, m machine.Machine, c machine.DatagramConfig, wait time.Duration) (machine.Arrival, error) {
	port, err := m.OpenDatagram(c)
	require.NoError(t, err)
	defer port.Close()
	_, err = port.Send([]byte("hello"))
	require.NoError(t, err)
	ctx, cancel := context.WithTimeout(t.Context(), wait)
	defer cancel()
	_, a, err := port.Receive(ctx)
	return a, err
}

func datagramTooLarge(t *testing.T, m machine.Machine) {
	port, err := m.OpenDatagram(machine.DatagramConfig{To: netip.AddrPortFrom(gateway, 33436), DontFragment: true})
	require.NoError(t, err)
	defer port.Close()
	_, err = port.Send(make([]byte, 3000))
	assert.ErrorIs(t, err, machine.ErrTooLong)
	_, err = port.Send(make([]byte, 1472))
	require.NoError(t, err)
	ctx, cancel := context.WithTimeout(t.Context(), patience)
	defer cancel()
	_, a, err := port.Receive(ctx)
	require.NoError(t, err)
	assert.Equal(t, evidence.Refused, a.Outcome)
	assert.Equal(t, gateway, a.From)
}

func datagramRefused(t *testing.T, m machine.Machine) {
	a, err := datagram(t, m, machine.DatagramConfig{To: netip.AddrPortFrom(bookings, 33434)}, patience)
	require.NoError(t, err)
	assert.Equal(t, evidence.Refused, a.Outcome)
	assert.Equal(t, bookings, a.From)
	assert.Equal(t, evidence.NoPort, a.Why)
	assert.Equal(t, uint8(3), a.ICMPType)
	assert.Equal(t, uint8(3), a.ICMPCode)
}

func datagramHopLimit(t *testing.T, m machine.Machine) {
	a, err := datagram(t, m, machine.DatagramConfig{To: netip.AddrPortFrom(bookings, 33435), HopLimit: 2}, patience)
	require.NoError(t, err)
	assert.Equal(t, evidence.Expired, a.Outcome)
	assert.Equal(t, "198.51.100.1", a.From.String())
}

func datagramSilence(t *testing.T, m machine.Machine) {
	_, err := datagram(t, m, machine.DatagramConfig{To: netip.AddrPortFrom(nobody, 9)}, 50*time.Millisecond)
	assert.ErrorIs(t, err, context.DeadlineExceeded)
}

func connectTo(t *testing.T, m machine.Machine, c machine.ConnectConfig, wait time.Duration) (net.Conn, evidence.Reply) {
	ctx, cancel := context.WithTimeout(t.Context(), wait)
	defer cancel()
	return m.Connect(ctx, c)
}

func connect(t *testing.T, m machine.Machine) {
	conn, r := connectTo(t, m, machine.ConnectConfig{To: netip.AddrPortFrom(bookings, 80)}, patience)
	require.Equal(t, evidence.Answered, r.Outcome, r.Reason)
	defer conn.Close()
	assert.Greater(t, r.RTT, 15*time.Millisecond, "the site is 20 ms away")
	_, err := conn.Write([]byte("GET / HTTP/1.0\r\n\r\n"))
	require.NoError(t, err)
	require.NoError(t, conn.SetReadDeadline(time.Now().Add(patience)))
	b := make([]byte, 64)
	n, err := conn.Read(b)
	require.NoError(t, err)
	assert.Contains(t, string(b[:n]), "HTTP/1.0 200")
}

func connectRefused(t *testing.T, m machine.Machine) {
	conn, r := connectTo(t, m, machine.ConnectConfig{To: netip.AddrPortFrom(bookings, 81)}, patience)
	assert.Nil(t, conn)
	assert.Equal(t, evidence.Refused, r.Outcome)
	assert.Equal(t, bookings, r.From)
	assert.Equal(t, evidence.NoReason, r.Why, "a reset gives none")
}

func connectHopLimit(t *testing.T, m machine.Machine) {
	_, r := connectTo(t, m, machine.ConnectConfig{To: netip.AddrPortFrom(bookings, 443), HopLimit: 3}, patience)
	assert.Equal(t, evidence.Expired, r.Outcome)
	assert.Equal(t, "198.51.100.9", r.From.String())
}

func connectSilence(t *testing.T, m machine.Machine) {
	began := time.Now()
	conn, r := connectTo(t, m, machine.ConnectConfig{To: netip.AddrPortFrom(nobody, 443)}, 100*time.Millisecond)
	assert.Nil(t, conn)
	assert.Equal(t, evidence.Silent, r.Outcome)
	assert.Less(t, time.Since(began), patience)
}

func frames(t *testing.T, m machine.Machine) {
	port, err := m.OpenFrames(machine.FrameConfig{Interface: "eth0"})
	require.NoError(t, err)
	defer port.Close()
	stop := time.AfterFunc(patience, func() { port.Close() })
	defer stop.Stop()
	require.False(t, port.Hardware().IsZero())
	require.NoError(t, port.Send(wire.ARPRequest(port.Hardware(), own, printer)))
	for {
		frame, _, err := port.Receive()
		require.NoError(t, err, "no answer to ARP")
		f, ok := wire.ParseFrame(frame)
		assert.False(t, ok && f.Source == port.Hardware(), "an own frame")
		if ok && f.Claim == printer {
			assert.False(t, f.Hardware.IsZero())
			return
		}
	}
}

// dhcpFrames: a port that hears DHCP alone, its own included, hears a discover of its own and the offer to it, and no ARP.
func dhcpFrames(t *testing.T, m machine.Machine) {
	port, err := m.OpenFrames(machine.FrameConfig{Interface: "eth0", Own: true, Only: machine.OnlyDHCP})
	require.NoError(t, err)
	defer port.Close()
	stop := time.AfterFunc(patience, func() { port.Close() })
	defer stop.Stop()
	other, err := m.OpenFrames(machine.FrameConfig{Interface: "eth0"})
	require.NoError(t, err)
	defer other.Close()
	require.NoError(t, other.Send(wire.ARPRequest(port.Hardware(), own, printer)))
	m1, err := dhcpv4.NewDiscovery(wire.HardwareOf(port.Hardware()))
	require.NoError(t, err)
	require.NoError(t,
		other.Send(wire.UDPFrame(port.Hardware(), wire.Broadcast, netip.MustParseAddrPort("0.0.0.0:68"),
			netip.MustParseAddrPort("255.255.255.255:67"), m1.ToBytes())))
	for _, want := range []dhcp.Type{dhcp.Discover, dhcp.Offer} {
		frame, _, err := port.Receive()
		require.NoError(t, err, "no %v was heard", want)
		f, ok := wire.ParseFrame(frame)
		require.True(t, ok)
		got, err := wire.ParseDHCP(f.Payload)
		require.NoError(t, err)
		assert.Equal(t, want, got.Type)
	}
}

func ports(t *testing.T, m machine.Machine) {
	read := func() endpoint.Interface {
		list, err := m.Interfaces(t.Context())
		require.NoError(t, err)
		require.Len(t, list, 1)
		return list[0]
	}
	was := read()
	assert.Equal(t, "eth0", was.Name)
	for range 5 {
		ask(t, m, machine.EchoRequest{To: gateway, Payload: make([]byte, 24)})
	}
	now := read()
	grown := now.Counters.Since(was.Counters)
	assert.GreaterOrEqual(t, grown.SentPackets, uint64(5))
	assert.GreaterOrEqual(t, grown.ReceivedPackets, uint64(5))
	assert.GreaterOrEqual(t, grown.SentBytes, uint64(5*66))
	assert.Zero(t, grown.Errors())
	table, err := m.Neighbours(t.Context())
	require.NoError(t, err)
	for _, n := range table {
		if n.Address == gateway && n.State == endpoint.Reachable {
			assert.True(t, n.Aged)
			assert.Less(t, n.Age, time.Minute)
			return
		}
	}
	t.Error("the gateway, which has just answered, is not in the table")
}

func gone(t *testing.T, m machine.Machine) {
	_, err := m.OpenFrames(machine.FrameConfig{Interface: "eth9"})
	assert.True(t, errors.Is(err, machine.ErrGone), "%v", err)
	_, err = m.OpenEcho(machine.EchoConfig{Interface: "eth9"})
	assert.True(t, errors.Is(err, machine.ErrGone) || errors.Is(err, fs.ErrPermission), "%v", err)
	_, r := connectTo(t, m, machine.ConnectConfig{To: netip.AddrPortFrom(bookings, 443), Interface: "eth9"}, time.Second)
	assert.Equal(t, evidence.LocalError, r.Outcome)
	assert.Equal(t, "the interface is gone", r.Reason)
}

func echoTooLarge(t *testing.T, m machine.Machine) {
	port, err := m.OpenEcho(machine.EchoConfig{DontFragment: true})
	require.NoError(t, err)
	defer port.Close()
	_, err = port.Send(machine.EchoRequest{To: gateway, Seq: 1, Payload: make([]byte, 3000)})
	assert.ErrorIs(t, err, machine.ErrTooLong)
	_, err = port.Send(machine.EchoRequest{To: gateway, Seq: 2, Payload: make([]byte, 1472)})
	require.NoError(t, err)
	got, err := port.Receive()
	require.NoError(t, err)
	assert.Equal(t, uint16(2), got.Seq)
	assert.Equal(t, evidence.Answered, got.Outcome)
}

func flowUDP(t *testing.T, m machine.Machine) {
	flow(t, m, machine.FlowConfig{To: netip.AddrPortFrom(bookings, 33434), Proto: machine.FlowUDP}, evidence.Refused)
}

func flowTCP(t *testing.T, m machine.Machine) {
	flow(t, m, machine.FlowConfig{To: netip.AddrPortFrom(bookings, 443), Proto: machine.FlowTCP}, evidence.Answered)
}

// flow sends three packets that end at three places.
func flow(t *testing.T, m machine.Machine, c machine.FlowConfig, end evidence.Outcome) {
	port, err := m.OpenFlow(c)
	require.NoError(t, err)
	defer port.Close()
	for number, hops := range []int{1, 2, 30} {
		_, err := port.Send(uint16(number), hops)
		require.NoError(t, err)
	}
	want := map[uint16]struct {
		from    netip.Addr
		outcome evidence.Outcome
	}{0: {gateway, evidence.Expired}, 1: {netip.MustParseAddr("198.51.100.1"), evidence.Expired}, 2: {bookings, end}}
	for len(want) > 0 {
		number, a, err := port.Receive()
		require.NoError(t, err)
		if w, ok := want[number]; assert.True(t, ok, "packet %d", number) {
			assert.Equal(t, w.from, a.From)
			assert.Equal(t, w.outcome, a.Outcome)
			assert.False(t, a.At.IsZero())
			delete(want, number)
		}
	}
}
