package linux

import (
	"context"
	"net"
	"net/netip"
	"time"

	"golang.org/x/sys/unix"

	"passepartout/internal/core/evidence"
	"passepartout/internal/machine"
)

type datagramSocket struct {
	*socket
	to  netip.AddrPort
	buf []byte
}

// OpenDatagram implements machine.Machine. The socket is connected, so that datagrams from anybody else never reach it.
func (m *live) OpenDatagram(c machine.DatagramConfig) (machine.DatagramSocket, error) {
	s, err := newSocket(c.To.Addr().Is6(), unix.SOCK_DGRAM, 0,
		options{iface: c.Interface, hopLimit: c.HopLimit, errors: true, stamps: true, whole: c.DontFragment,
			onLink: c.OnLink && c.To.Addr().Is4()})
	if err != nil {
		return nil, err
	}
	var cerr error
	_ = s.raw.Control(func(fd uintptr) { cerr = unix.Connect(int(fd), sockaddr(c.To)) })
	if cerr != nil {
		s.Close()
		return nil, translate("sending", cerr)
	}
	return &datagramSocket{socket: s, to: c.To, buf: make([]byte, 1<<16)}, nil
}

func (p *datagramSocket) Send(payload []byte) (time.Time, error) {
	return p.send(payload, netip.AddrPort{}, 0)
}

func (p *datagramSocket) Receive(ctx context.Context) ([]byte, machine.Arrival, error) {
	defer p.endWith(ctx)()
	for {
		if err := ctx.Err(); err != nil {
			return nil, machine.Arrival{}, err
		}
		got, err := p.receive(p.buf)
		switch {
		case err != nil && isDeadline(err):
			// Either ctx ended just now, which the next turn reports, or the end of an earlier wait came late.
			_ = p.file.SetReadDeadline(time.Time{})
			if ctx.Err() == nil {
				continue
			}
			return nil, machine.Arrival{}, ctx.Err()
		case p.ended(err):
			return nil, machine.Arrival{}, net.ErrClosed
		case err != nil:
			return nil, machine.Arrival{}, translate("receiving", err)
		case got.report != nil && got.report.local && got.report.errno == unix.EMSGSIZE:
			continue // Send has told of it
		case got.report != nil:
			return nil, got.report.Arrival, nil
		}
		return append([]byte(nil), got.data...), machine.Arrival{Outcome: evidence.Answered, From: p.to.Addr(), HopLimitLeft: got.hops,
			Size: len(got.data), At: got.at, Stamp: got.stamp}, nil
	}
}
