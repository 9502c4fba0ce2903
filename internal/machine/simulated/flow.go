package simulated

import (
	"encoding/binary"
	"fmt"
	"io/fs"
	"net"
	"net/netip"
	"sync"
	"time"

	"gvisor.dev/gvisor/pkg/tcpip"
	"gvisor.dev/gvisor/pkg/tcpip/header"
	"gvisor.dev/gvisor/pkg/tcpip/transport/tcp"
	"gvisor.dev/gvisor/pkg/tcpip/transport/udp"
	"gvisor.dev/gvisor/pkg/waiter"

	"passepartout/internal/machine"
	"passepartout/internal/machine/wire"
)

// flowPort sends packets of one flow past the node's sockets, and hears what comes back at its ports.
type flowSocket struct {
	m        *endpointMachine
	nic      tcpip.NICID
	from, to netip.AddrPort
	proto    tcpip.TransportProtocolNumber
	arrivals chan flowArrival
	done     chan struct{}
	close    func()
}

type flowArrival struct {
	number uint16
	machine.Arrival
}

// OpenFlow implements machine.Machine.
func (m *endpointMachine) OpenFlow(c machine.FlowConfig) (machine.FlowSocket, error) {
	p := &flowSocket{m: m, to: c.To, proto: udp.ProtocolNumber, arrivals: make(chan flowArrival, 1024), done: make(chan struct{})}
	if c.Proto == machine.FlowTCP {
		if allowed := m.Permissions().Frames; !allowed.Granted {
			return nil, fmt.Errorf("a flow of TCP segments: %s: %w", allowed.Why, fs.ErrPermission)
		}
		p.proto = tcp.ProtocolNumber
	}
	// A socket of the stack holds the port.
	var wq waiter.Queue
	ep, local, err := m.socket(p.proto, c.To, c.Interface, 0, &wq)
	if err != nil {
		return nil, err
	}
	if p.nic, err = m.nic(c.Interface); err != nil {
		ep.Close()
		return nil, err
	}
	route, terr := m.node.stack.FindRoute(p.nic, tcpip.Address{}, toTCPIP(c.To.Addr()), protoOf(c.To.Addr()), false)
	if terr != nil {
		ep.Close()
		return nil, outcomeOfSend(terr)
	}
	p.from = netip.AddrPortFrom(fromTCPIP(route.LocalAddress()), local)
	route.Release()
	stop := m.listen(func(r wire.Report, at time.Time) {
		if r.About.Proto != uint8(p.proto) || r.About.From.Port() != local || r.About.To != c.To {
			return
		}
		number, ok := uint16(0), false
		switch rest := r.About.Rest; {
		case p.proto == tcp.ProtocolNumber:
			number, ok = wire.SYNNumber(binary.BigEndian.Uint32(rest[4:]))
		case len(rest) > 8:
			number, ok = wire.FlowNumber(rest[8:])
		}
		if ok {
			p.put(flowArrival{number, arrival(r, at)})
		}
	})
	stops := []func(){stop}
	for _, own := range m.node.ports {
		stops = append(stops, own.listen(p.hear))
	}
	p.close = sync.OnceFunc(func() {
		for _, f := range stops {
			f()
		}
		ep.Close()
		close(p.done)
	})
	return p, nil
}

func (p *flowSocket) put(a flowArrival) {
	select {
	case p.arrivals <- a:
	default: // nobody reads: as a full socket buffer
	}
}

// hear looks for segments that answer ours.
func (p *flowSocket) hear(frame []byte) {
	v, ok := look(frame)
	if !ok || p.proto != tcp.ProtocolNumber || v.proto != "tcp" || v.src != p.to.Addr() || v.dst != p.from.Addr() {
		return
	}
	segment := frame[ethernetHeader+header.IPv6MinimumSize:]
	if !v.v6 {
		segment = header.IPv4(frame[ethernetHeader:]).Payload()
	}
	if number, refused, ok := wire.SYNAnswer(segment, p.from.Port(), p.to.Port()); ok {
		p.put(flowArrival{number,
			machine.Arrival{Outcome: wire.AnsweredFlow(refused), From: v.src, HopLimitLeft: v.hopLimit, At: time.Now()}})
	}
}

func (p *flowSocket) Send(number uint16, hopLimit int) (time.Time, error) {
	at := time.Now()
	if p.m.node.forbids(map[bool]string{true: "tcp", false: "udp"}[p.proto == tcp.ProtocolNumber], p.to) {
		return at, fs.ErrPermission
	}
	message := wire.SYN(p.from, p.to, number)
	if p.proto == udp.ProtocolNumber {
		message = wire.Datagram(p.from, p.to, wire.FlowPayload(number))
	}
	route, err := p.m.node.stack.FindRoute(p.nic, tcpip.Address{}, toTCPIP(p.to.Addr()), protoOf(p.to.Addr()), false)
	if err != nil {
		return at, outcomeOfSend(err)
	}
	defer route.Release()
	return at, outcomeOfSend(write(route, p.proto, message, hopLimit, false))
}

func (p *flowSocket) Receive() (uint16, machine.Arrival, error) {
	select {
	case a := <-p.arrivals:
		return a.number, a.Arrival, nil
	case <-p.done:
		return 0, machine.Arrival{}, net.ErrClosed
	}
}

func (p *flowSocket) Close() error { p.close(); return nil }
