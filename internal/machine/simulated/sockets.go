package simulated

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"io/fs"
	"net"
	"net/netip"
	"slices"
	"sync"
	"time"

	"gvisor.dev/gvisor/pkg/tcpip"
	"gvisor.dev/gvisor/pkg/tcpip/adapters/gonet"
	"gvisor.dev/gvisor/pkg/tcpip/header"
	"gvisor.dev/gvisor/pkg/tcpip/transport/tcp"
	"gvisor.dev/gvisor/pkg/tcpip/transport/udp"
	"gvisor.dev/gvisor/pkg/waiter"

	"passepartout/internal/core/dhcp"
	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/machine"
	"passepartout/internal/machine/wire"
)

func arrival(r wire.Report, at time.Time) machine.Arrival {
	return machine.Arrival{Outcome: r.Outcome, From: r.From, Why: r.Why, ICMPType: r.Type, ICMPCode: r.Code, HopLimitLeft: r.HopLimitLeft,
		Size: len(r.Data), MTU: r.MTU, At: at}
}

// echoPort sends echo requests through the node's stack and hears replies at its ports.
type echoSocket struct {
	m        *endpointMachine
	nic      tcpip.NICID
	id       uint16
	v6       bool
	whole    bool
	arrivals chan machine.EchoArrival
	done     chan struct{}
	close    func()
}

// OpenEcho implements machine.Machine.
func (m *endpointMachine) OpenEcho(c machine.EchoConfig) (machine.EchoSocket, error) {
	if p := m.Permissions().Echo; !p.Granted {
		return nil, fmt.Errorf("echo: %s: %w", p.Why, fs.ErrPermission)
	}
	nic, err := m.nic(c.Interface)
	if err != nil {
		return nil, err
	}
	p := &echoSocket{m: m, nic: nic, v6: c.V6, whole: c.DontFragment, id: uint16(m.nextEcho.Add(1)),
		arrivals: make(chan machine.EchoArrival, 1024), done: make(chan struct{})}
	stop := m.listen(func(r wire.Report, at time.Time) {
		if !r.About.EchoFamily || r.About.ID != p.id || r.About.To.Addr().Is6() != c.V6 {
			return
		}
		select {
		case p.arrivals <- machine.EchoArrival{Seq: r.About.Seq, To: r.About.To.Addr(), Data: r.Data, Arrival: arrival(r, at)}:
		default: // nobody reads: as a full socket buffer
		}
	})
	p.close = sync.OnceFunc(func() { stop(); close(p.done) })
	return p, nil
}

func (p *echoSocket) Send(r machine.EchoRequest) (time.Time, error) {
	message := make([]byte, 8, 8+len(r.Payload))
	proto := header.ICMPv4ProtocolNumber
	message[0] = byte(header.ICMPv4Echo)
	if p.v6 {
		message[0], proto = byte(header.ICMPv6EchoRequest), header.ICMPv6ProtocolNumber
	}
	binary.BigEndian.PutUint16(message[4:], p.id)
	binary.BigEndian.PutUint16(message[6:], r.Seq)
	message = append(message, r.Payload...)
	hops := r.HopLimit
	if hops == 0 {
		hops = 64
	}
	at := time.Now()
	if p.m.node.forbids("icmp", netip.AddrPortFrom(r.To, 0)) {
		return at, fs.ErrPermission
	}
	return at, outcomeOfSend(p.m.node.sendICMP(r.To, proto, message, hops, p.nic, p.whole))
}

func (p *echoSocket) Receive() (machine.EchoArrival, error) {
	select {
	case a := <-p.arrivals:
		return a, nil
	case <-p.done:
		return machine.EchoArrival{}, net.ErrClosed
	}
}

func (p *echoSocket) Close() error { p.close(); return nil }

// socket makes a gVisor endpoint with the options that probes use, bound to a port of its own so that errors can be told apart.
func (m *endpointMachine) socket(transport tcpip.TransportProtocolNumber, to netip.AddrPort, iface string, hopLimit int,
	wq *waiter.Queue) (tcpip.Endpoint, uint16, error) {
	nic, err := m.nic(iface)
	if err != nil {
		return nil, 0, err
	}
	ep, terr := m.node.stack.NewEndpoint(transport, protoOf(to.Addr()), wq)
	if terr != nil {
		return nil, 0, stackError{terr.String()}
	}
	if nic != 0 {
		_ = ep.SocketOptions().SetBindToDevice(int32(nic))
	}
	if hopLimit > 0 {
		option := tcpip.IPv4TTLOption
		if to.Addr().Is6() {
			option = tcpip.IPv6HopLimitOption
		}
		_ = ep.SetSockOptInt(option, hopLimit)
	}
	if terr := ep.Bind(tcpip.FullAddress{}); terr != nil {
		ep.Close()
		return nil, 0, stackError{terr.String()}
	}
	local, terr := ep.GetLocalAddress()
	if terr != nil {
		ep.Close()
		return nil, 0, stackError{terr.String()}
	}
	return ep, local.Port, nil
}

// towards is an address to connect to, out of one port if that is named: gVisor does not take the port from the socket's binding to a
// device.
func (m *endpointMachine) towards(to netip.AddrPort, iface string) tcpip.FullAddress {
	nic, _ := m.nic(iface) // it was found when the socket was made
	return tcpip.FullAddress{NIC: nic, Addr: toTCPIP(to.Addr()), Port: to.Port()}
}

// datagramPort is a UDP socket; ICMP about it is heard at the machine's ports, with code and sender.
type datagramSocket struct {
	node    *node
	conn    *gonet.UDPConn
	to      netip.AddrPort
	whole   bool
	reports chan machine.Arrival
	got     chan datagram
	close   func()
}

type datagram struct {
	payload []byte
	at      time.Time
}

// OpenDatagram implements machine.Machine.
func (m *endpointMachine) OpenDatagram(c machine.DatagramConfig) (machine.DatagramSocket, error) {
	if nic, err := m.nic(c.Interface); err == nil && c.OnLink && nic != 0 && !m.node.onLink(nic, c.To.Addr()) {
		return &linkSocket{m.node, nic, c.To.Addr(), make(chan struct{})}, nil
	}
	var wq waiter.Queue
	ep, local, err := m.socket(udp.ProtocolNumber, c.To, c.Interface, c.HopLimit, &wq)
	if err != nil {
		return nil, err
	}
	if terr := ep.Connect(m.towards(c.To, c.Interface)); terr != nil {
		ep.Close()
		return nil, outcomeOfSend(terr)
	}
	if c.DontFragment {
		_ = ep.SetSockOptInt(tcpip.MTUDiscoverOption, int(tcpip.PMTUDiscoveryProbe))
	}
	p := &datagramSocket{node: m.node, conn: gonet.NewUDPConn(&wq, ep), to: c.To, whole: c.DontFragment,
		reports: make(chan machine.Arrival, 16), got: make(chan datagram, 16)}
	stop := m.listen(func(r wire.Report, at time.Time) {
		if r.About.Proto == uint8(udp.ProtocolNumber) && r.About.From.Port() == local && r.About.To == c.To {
			select {
			case p.reports <- arrival(r, at):
			default:
			}
		}
	})
	p.close = sync.OnceFunc(func() { stop(); p.conn.Close() })
	go p.read()
	return p, nil
}

// onLink reports whether a network of an interface holds an address.
func (n *node) onLink(nic tcpip.NICID, a netip.Addr) bool {
	return slices.ContainsFunc(n.stack.NICInfo()[nic].ProtocolAddresses, func(p tcpip.ProtocolAddress) bool {
		s := p.AddressWithPrefix.Subnet()
		return s.Contains(toTCPIP(a))
	})
}

// linkSocket sends past the routing table: the stack finds out who has the address, and nothing that is sent there comes back.
type linkSocket struct {
	node   *node
	nic    tcpip.NICID
	to     netip.Addr
	closed chan struct{}
}

func (p *linkSocket) Send([]byte) (time.Time, error) {
	at := time.Now()
	err := p.node.stack.GetLinkAddress(p.nic, toTCPIP(p.to), tcpip.Address{}, protoOf(p.to), nil)
	if _, waits := err.(*tcpip.ErrWouldBlock); waits {
		err = nil
	}
	return at, outcomeOfSend(err)
}

func (p *linkSocket) Receive(ctx context.Context) ([]byte, machine.Arrival, error) {
	select {
	case <-ctx.Done():
		return nil, machine.Arrival{}, ctx.Err()
	case <-p.closed:
		return nil, machine.Arrival{}, net.ErrClosed
	}
}

func (p *linkSocket) Close() error { close(p.closed); return nil }

func (p *datagramSocket) read() {
	defer close(p.got)
	buf := make([]byte, 1<<16)
	refusals := 0
	for {
		n, err := p.conn.Read(buf)
		if err != nil {
			// An ICMP error, told by the report already, also fails one read; anything else repeats and is the end.
			if refusals++; refusals > 64 || err.Error() == "EOF" {
				return
			}
			if op, ok := err.(*net.OpError); ok && op.Err != nil && op.Err.Error() != "connection was refused" {
				return
			}
			continue
		}
		select {
		case p.got <- datagram{bytes.Clone(buf[:n]), time.Now()}:
		default:
		}
	}
}

func (p *datagramSocket) Send(payload []byte) (time.Time, error) {
	at := time.Now()
	if p.node.forbids("udp", p.to) {
		return at, fs.ErrPermission
	}
	if p.whole && !p.node.fits(p.to.Addr(), header.UDPMinimumSize+len(payload)) {
		return at, machine.ErrTooLong
	}
	_, err := p.conn.Write(payload)
	if err != nil { // the first write after an ICMP error reports that error and sends nothing
		at = time.Now()
		_, err = p.conn.Write(payload)
	}
	return at, err
}

func (p *datagramSocket) Receive(ctx context.Context) ([]byte, machine.Arrival, error) {
	select {
	case a := <-p.reports:
		return nil, a, nil
	case d, open := <-p.got:
		if !open {
			select { // the socket ended: because of a report, if there is one
			case a := <-p.reports:
				return nil, a, nil
			case <-ctx.Done():
				return nil, machine.Arrival{}, ctx.Err()
			}
		}
		return d.payload, machine.Arrival{Outcome: evidence.Answered, From: p.to.Addr(), Size: len(d.payload), At: d.at}, nil
	case <-ctx.Done():
		return nil, machine.Arrival{}, ctx.Err()
	}
}

func (p *datagramSocket) Close() error { p.close(); return nil }

// Connect implements machine.Machine.
func (m *endpointMachine) Connect(ctx context.Context, c machine.ConnectConfig) (net.Conn, evidence.Reply) {
	var wq waiter.Queue
	ep, local, err := m.socket(tcp.ProtocolNumber, c.To, c.Interface, c.HopLimit, &wq)
	if err != nil {
		return nil, machine.LocalError(err)
	}
	reports := make(chan machine.Arrival, 4)
	stop := m.listen(func(r wire.Report, at time.Time) {
		if r.About.Proto == uint8(tcp.ProtocolNumber) && r.About.From.Port() == local && r.About.To == c.To {
			select {
			case reports <- arrival(r, at):
			default:
			}
		}
	})
	defer stop()
	entry, ready := waiter.NewChannelEntry(waiter.WritableEvents | waiter.EventErr | waiter.EventHUp)
	wq.EventRegister(&entry)
	defer wq.EventUnregister(&entry)
	began, unsent := time.Now(), m.node.unsent.Load()
	terr := ep.Connect(m.towards(c.To, c.Interface))
	if _, started := terr.(*tcpip.ErrConnectStarted); started {
		select {
		case a := <-reports:
			ep.Close()
			return nil, evidence.Reply{Outcome: a.Outcome, From: a.From, Why: a.Why, ICMPType: a.ICMPType, ICMPCode: a.ICMPCode,
				RTT: a.At.Sub(began)}
		case <-ready:
			terr = ep.LastError()
		case <-ctx.Done():
			ep.Close()
			return nil, evidence.Reply{Outcome: evidence.Silent, Waited: time.Since(began),
				Unsent: max(int(m.node.unsent.Load()-unsent)-1, 0)} // the first of them is no repeat
		}
	}
	took := time.Since(began)
	switch terr.(type) {
	case nil:
		return gonet.NewTCPConn(&wq, ep), evidence.Reply{Outcome: evidence.Answered, From: c.To.Addr(), RTT: took}
	case *tcpip.ErrConnectionRefused, *tcpip.ErrConnectionReset, *tcpip.ErrConnectionAborted:
		ep.Close()
		return nil, evidence.Reply{Outcome: evidence.Refused, From: c.To.Addr(), RTT: took}
	case *tcpip.ErrTimeout:
		ep.Close()
		return nil, evidence.Reply{Outcome: evidence.Silent, Waited: took}
	case *tcpip.ErrHostUnreachable, *tcpip.ErrNetworkUnreachable:
		ep.Close()
		select { // told by an ICMP error in the same moment?
		case a := <-reports:
			return nil, evidence.Reply{Outcome: a.Outcome, From: a.From, Why: a.Why, ICMPType: a.ICMPType, ICMPCode: a.ICMPCode, RTT: took}
		default:
		}
		if took > 50*time.Millisecond { // the neighbour table gave up
			return nil, evidence.Reply{Outcome: evidence.LocalError, Reason: evidence.NoNextHop, RTT: took}
		}
		return nil, machine.LocalError(errNoRoute)
	}
	ep.Close()
	return nil, machine.LocalError(stackError{terr.String()})
}

// framePort hears and sends whole frames at one port.
type frameSocket struct {
	p      *port
	frames chan heardFrame
	own    *tap // for the frames of this machine; nil: they are not wanted
	done   chan struct{}
	downed <-chan struct{} // closed when the interface goes down
	close  func()
}

type heardFrame struct {
	bytes []byte
	at    time.Time
}

// OpenFrames implements machine.Machine.
func (m *endpointMachine) OpenFrames(c machine.FrameConfig) (machine.FrameSocket, error) {
	iface := c.Interface
	if p := m.Permissions().Frames; !p.Granted {
		return nil, fmt.Errorf("frames: %s: %w", p.Why, fs.ErrPermission)
	}
	for _, p := range m.node.ports {
		if p.name != iface {
			continue
		}
		if p.down.Load() {
			return nil, fmt.Errorf("frames on %s: %w", iface, machine.ErrDown)
		}
		length := queueLength
		if c.Only == machine.OnlyDHCP {
			length = 64 // little of it is ever said
		}
		f := &frameSocket{p: p, frames: make(chan heardFrame, length), done: make(chan struct{}), downed: p.untilDown()}
		take := func(frame []byte) {
			if !passes(c.Only, frame) {
				return
			}
			select {
			case f.frames <- heardFrame{bytes.Clone(frame), time.Now()}:
			default:
			}
		}
		stop, stopOwn := p.listen(take), func() {}
		if c.Own {
			f.own = &tap{take}
			stopOwn = p.overhear(f.own)
		}
		f.close = sync.OnceFunc(func() { stop(); stopOwn(); close(f.done) })
		return f, nil
	}
	return nil, fmt.Errorf("frames on %s: %w", iface, machine.ErrGone)
}

// passes reports whether a filter lets a frame be heard, as the kernel's program would.
func passes(only machine.Filter, frame []byte) bool {
	v, ip := look(frame)
	ofDHCP := ip && v.proto == "udp" && (v.dstPort == dhcp.ServerPort || v.dstPort == dhcp.ClientPort)
	switch only {
	case machine.OnlyDHCP:
		return ofDHCP && !v.v6
	case machine.OnlyHousekeeping:
		const dhcp6Client, dhcp6Server = 546, 547
		return !ip || ofDHCP || v.v6 && (v.proto == "icmp" || v.dstPort == dhcp6Client || v.dstPort == dhcp6Server)
	}
	return true
}

func (f *frameSocket) Hardware() endpoint.HardwareAddr { return f.p.hw }

func (f *frameSocket) Send(frame []byte) error {
	f.p.transmitFrom(bytes.Clone(frame), f.own)
	return nil
}

func (f *frameSocket) Receive() ([]byte, time.Time, error) {
	select {
	case h := <-f.frames:
		return h.bytes, h.at, nil
	case <-f.done:
		return nil, time.Time{}, net.ErrClosed
	case <-f.downed:
		return nil, time.Time{}, fmt.Errorf("frames on %s: %w", f.p.name, machine.ErrDown)
	}
}

func (f *frameSocket) Close() error { f.close(); return nil }
