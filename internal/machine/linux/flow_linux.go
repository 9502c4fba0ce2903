package linux

import (
	"encoding/binary"
	"net"
	"net/netip"
	"time"

	"golang.org/x/sys/unix"

	"passepartout/internal/machine"
	"passepartout/internal/machine/wire"
)

// flowPort sends packets of one flow over one socket, with a hop limit for each. UDP packets carry their number in the payload, which
// routers quote (RFC 1812 §4.3.2.3); TCP segments in the sequence number, which every router must quote (RFC 792).
type flowSocket struct {
	*socket
	tcp  bool
	from netip.AddrPort
	to   netip.AddrPort
	hold int // a bound TCP socket that keeps the port ours; -1 for none
	buf  []byte
}

// OpenFlow implements machine.Machine.
func (m *live) OpenFlow(c machine.FlowConfig) (machine.FlowSocket, error) {
	p := &flowSocket{tcp: c.Proto == machine.FlowTCP, to: c.To, hold: -1, buf: make([]byte, 1<<16)}
	v6, kind, proto := c.To.Addr().Is6(), unix.SOCK_DGRAM, 0
	if p.tcp {
		kind, proto = unix.SOCK_RAW, unix.IPPROTO_TCP
	}
	var err error
	if p.socket, err = newSocket(v6, kind, proto, options{iface: c.Interface, errors: true, stamps: true}); err != nil {
		return nil, err
	}
	to := c.To
	if p.tcp {
		to = netip.AddrPortFrom(to.Addr(), 0)
	}
	var cerr error
	_ = p.raw.Control(func(fd uintptr) {
		if cerr = unix.Connect(int(fd), sockaddr(to)); cerr != nil {
			return
		}
		own, err := unix.Getsockname(int(fd))
		if cerr = err; err == nil {
			p.from = addrOf(own)
		}
	})
	if cerr == nil && p.tcp {
		cerr = p.holdPort()
	}
	if cerr != nil {
		p.Close()
		return nil, translate("sending", cerr)
	}
	return p, nil
}

// holdPort takes a free port for a TCP flow. Nobody listens on it, so that the kernel resets whatever is answered.
func (p *flowSocket) holdPort() error {
	fd, err := unix.Socket(family(p.v6), unix.SOCK_STREAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return err
	}
	p.hold = fd
	if err := unix.Bind(fd, sockaddr(netip.AddrPortFrom(p.from.Addr(), 0))); err != nil {
		return err
	}
	own, err := unix.Getsockname(fd)
	if err != nil {
		return err
	}
	p.from = netip.AddrPortFrom(p.from.Addr(), addrOf(own).Port())
	return nil
}

func (p *flowSocket) Close() error {
	if p.hold >= 0 {
		unix.Close(p.hold)
		p.hold = -1
	}
	return p.socket.Close()
}

func (p *flowSocket) Send(number uint16, hopLimit int) (time.Time, error) {
	if p.tcp {
		return p.send(wire.SYN(p.from, p.to, number), netip.AddrPort{}, hopLimit)
	}
	return p.send(wire.FlowPayload(number), netip.AddrPort{}, hopLimit)
}

func (p *flowSocket) Receive() (uint16, machine.Arrival, error) {
	for {
		got, err := p.receive(p.buf)
		switch {
		case p.ended(err):
			return 0, machine.Arrival{}, net.ErrClosed
		case err != nil:
			return 0, machine.Arrival{}, translate("receiving", err)
		}
		if got.report != nil {
			number, ok := uint16(0), false
			switch {
			case got.report.departed:
			case !p.tcp:
				number, ok = wire.FlowNumber(got.data)
			case len(got.data) >= 8 && binary.BigEndian.Uint16(got.data) == p.from.Port():
				number, ok = wire.SYNNumber(binary.BigEndian.Uint32(got.data[4:]))
			}
			if ok {
				return number, got.report.Arrival, nil
			}
			continue
		}
		if number, a, ok := p.answer(got); ok {
			return number, a, nil
		}
	}
}

// answer reads what the destination itself sent.
func (p *flowSocket) answer(got packet) (uint16, machine.Arrival, bool) {
	a := machine.Arrival{From: p.to.Addr(), HopLimitLeft: got.hops, At: got.at, Stamp: got.stamp}
	if !p.tcp {
		number, ok := wire.FlowNumber(got.data) // a service that sends back what it got
		a.Outcome = wire.AnsweredFlow(false)
		return number, a, ok
	}
	segment := got.data
	if !p.v6 { // a raw IPv4 socket gives the IP header as well
		if len(segment) < 20 || len(segment) < int(segment[0]&15)*4 {
			return 0, a, false
		}
		a.HopLimitLeft = int(segment[8])
		segment = segment[int(segment[0]&15)*4:]
	}
	number, refused, ok := wire.SYNAnswer(segment, p.from.Port(), p.to.Port())
	a.Outcome = wire.AnsweredFlow(refused)
	return number, a, ok
}
