package linux

import (
	"fmt"
	"net"
	"net/netip"
	"sync"
	"time"

	"golang.org/x/net/icmp"
	"golang.org/x/net/ipv4"
	"golang.org/x/net/ipv6"
	"golang.org/x/sys/unix"

	"passepartout/internal/core/evidence"
	"passepartout/internal/machine"
	"passepartout/internal/machine/wire"
)

// echoPort sends echo requests over a raw socket, or over a datagram one where raw ones are not permitted. A datagram socket (icmp(7)) gets
// only its own replies, puts the identifier in by itself, and hears of errors through its error queue.
type echoSocket struct {
	*socket
	datagram bool
	id       uint16
	buf      []byte

	mu       sync.Mutex
	number   uint32               // of the next packet, as the kernel counts them
	seqs     map[uint32]uint16    // of packets that have not left yet
	departed map[uint16]time.Time // of those that have
}

// mostUnstamped bounds what is kept for replies that never come.
const mostUnstamped = 4096

// OpenEcho implements machine.Machine.
func (m *live) OpenEcho(c machine.EchoConfig) (machine.EchoSocket, error) {
	how, v6 := m.Permissions().Echo, c.V6
	proto := unix.IPPROTO_ICMP
	if v6 {
		proto = unix.IPPROTO_ICMPV6
	}
	o := options{iface: c.Interface, stamps: true, departed: true, whole: c.DontFragment}
	switch how.How {
	case "raw":
		s, err := newSocket(v6, unix.SOCK_RAW, proto, o)
		if err != nil {
			return nil, err
		}
		p := newEchoPort(s)
		p.id = freeID()
		return p, p.filter()
	case "datagram":
		o.errors = true
		s, err := newSocket(v6, unix.SOCK_DGRAM, proto, o)
		if err != nil {
			return nil, err
		}
		p := newEchoPort(s)
		p.datagram = true
		return p, nil
	}
	return nil, translate("echo: "+how.Why, unix.EPERM)
}

func newEchoPort(s *socket) *echoSocket {
	return &echoSocket{socket: s, buf: make([]byte, 1<<16), seqs: map[uint32]uint16{}, departed: map[uint16]time.Time{}}
}

// freeID gives each raw port an identifier of its own, so that ports of one process do not read each other's replies.
func freeID() uint16 { return uint16(nextID.Add(1)) ^ uint16(unix.Getpid()<<3) }

// filter lets only replies and errors up to a raw socket (raw(7), icmp6(7)).
func (p *echoSocket) filter() error {
	err := error(nil)
	_ = p.raw.Control(func(fd uintptr) {
		if p.v6 {
			f := unix.ICMPv6Filter{}
			for i := range f.Data {
				f.Data[i] = ^uint32(0)
			}
			for _, t := range []uint{1, 2, 3, 129} {
				f.Data[t>>5] &^= 1 << (t & 31)
			}
			err = unix.SetsockoptICMPv6Filter(int(fd), unix.IPPROTO_ICMPV6, unix.ICMPV6_FILTER, &f)
			return
		}
		const icmpFilter = 1 // ICMP_FILTER at SOL_RAW
		pass := uint32(1<<0 | 1<<3 | 1<<11)
		err = unix.SetsockoptInt(int(fd), unix.SOL_RAW, icmpFilter, int(int32(^pass)))
	})
	if err != nil {
		p.Close()
		return translate("filtering ICMP", err)
	}
	return nil
}

func (p *echoSocket) Send(r machine.EchoRequest) (time.Time, error) {
	m := icmp.Message{Type: ipv4.ICMPTypeEcho, Body: &icmp.Echo{ID: int(p.id), Seq: int(r.Seq), Data: r.Payload}}
	if p.v6 {
		m.Type = ipv6.ICMPTypeEchoRequest // the kernel fills in the checksum
	}
	b, err := m.Marshal(nil)
	if err != nil {
		return time.Time{}, fmt.Errorf("echo request: %w", err)
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if len(p.seqs) > mostUnstamped || len(p.departed) > mostUnstamped {
		clear(p.seqs)
		clear(p.departed)
	}
	p.seqs[p.number] = r.Seq
	delete(p.departed, r.Seq)
	at, err := p.send(b, netip.AddrPortFrom(r.To, 0), r.HopLimit)
	if err == nil {
		p.number++
	}
	return at, err
}

// left notes when a packet left.
func (p *echoSocket) left(number uint32, at time.Time) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if seq, ok := p.seqs[number]; ok {
		delete(p.seqs, number)
		p.departed[seq] = at
	}
}

// departure tells when the request of a sequence number left; zero if the kernel did not say.
func (p *echoSocket) departure(seq uint16) time.Time {
	p.mu.Lock()
	defer p.mu.Unlock()
	at := p.departed[seq]
	delete(p.departed, seq)
	return at
}

func (p *echoSocket) Receive() (machine.EchoArrival, error) {
	for {
		got, err := p.receive(p.buf)
		switch {
		case p.ended(err):
			return machine.EchoArrival{}, net.ErrClosed
		case err != nil:
			return machine.EchoArrival{}, translate("receiving", err)
		}
		if got.report != nil && got.report.departed {
			p.left(got.report.number, got.stamp)
			continue
		}
		if a, ok := p.read(got); ok {
			a.Departed = p.departure(a.Seq)
			return a, nil
		}
	}
}

func (p *echoSocket) read(got packet) (machine.EchoArrival, bool) {
	if got.report != nil { // the data is the request itself, without its IP header
		m, err := icmp.ParseMessage(p.proto(), got.data)
		echo, ok := (*icmp.Echo)(nil), false
		if err == nil {
			echo, ok = m.Body.(*icmp.Echo)
		}
		if !ok {
			return machine.EchoArrival{}, false
		}
		return machine.EchoArrival{Seq: uint16(echo.Seq), To: got.from.Addr(), Arrival: got.report.Arrival}, true
	}
	var r wire.Report
	ok := false
	switch {
	case p.datagram || p.v6: // no IP header in front
		m, err := icmp.ParseMessage(p.proto(), got.data)
		if err != nil {
			return machine.EchoArrival{}, false
		}
		if echo, isEcho := m.Body.(*icmp.Echo); isEcho && (m.Type == ipv4.ICMPTypeEchoReply || m.Type == ipv6.ICMPTypeEchoReply) {
			r, ok = wire.Report{Outcome: evidence.Answered, From: got.from.Addr(), Data: echo.Data, Type: got.data[0],
				About: wire.Quote{EchoFamily: true, ID: uint16(echo.ID), Seq: uint16(echo.Seq), To: got.from}}, true
		} else if p.v6 {
			r, ok = wire.Report{From: got.from.Addr()}.V6(got.data[0], got.data[1], got.data[4:])
		}
		r.HopLimitLeft = got.hops
	default:
		r, ok = wire.ParsePacket(got.data)
	}
	if !ok || !r.About.EchoFamily || (!p.datagram && r.About.ID != p.id) {
		return machine.EchoArrival{}, false
	}
	return machine.EchoArrival{Seq: r.About.Seq, To: r.About.To.Addr(), Data: r.Data,
		Arrival: machine.Arrival{Outcome: r.Outcome, From: r.From, Why: r.Why,
			ICMPType: r.Type, ICMPCode: r.Code, HopLimitLeft: r.HopLimitLeft, Size: len(r.Data), MTU: r.MTU, At: got.at, Stamp: got.stamp}}, true
}

func (p *echoSocket) proto() int {
	if p.v6 {
		return unix.IPPROTO_ICMPV6
	}
	return unix.IPPROTO_ICMP
}
