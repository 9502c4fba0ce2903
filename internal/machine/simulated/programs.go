package simulated

import (
	"context"
	"net/netip"
	"slices"
	"sync"
	"time"

	"gvisor.dev/gvisor/pkg/tcpip"
	"gvisor.dev/gvisor/pkg/tcpip/stack"
	"gvisor.dev/gvisor/pkg/tcpip/transport/tcp"
	"gvisor.dev/gvisor/pkg/waiter"

	"passepartout/internal/core/sockets"
	"passepartout/internal/machine"
)

var _ machine.SocketTeller = (*endpointMachine)(nil)

// A program that has no connection tries again; it gives up an attempt as programs do.
const (
	tryAgain = 3 * time.Second
	giveUp   = 40 * time.Second
)

// programs are those of the endpoint, at work since somebody looked at its sockets.
type programs struct {
	begin  sync.Once
	ctx    context.Context
	end    context.CancelFunc
	wg     sync.WaitGroup
	mu     sync.Mutex
	open   []*programSocket
	ends   map[chan machine.Closing]bool
	lastID uint64
	opens  uint64
}

// programSocket is one that a program has open.
type programSocket struct {
	program int // among those of the node
	ep      tcpip.Endpoint
	id      uint64
	began   time.Time
}

func newPrograms() *programs {
	p := &programs{ends: map[chan machine.Closing]bool{}}
	p.ctx, p.end = context.WithCancel(context.Background())
	return p
}

// close ends all programs.
func (p *programs) close() {
	p.end()
	p.wg.Wait()
}

// run begins them, and waits a moment for what they open first.
func (p *programs) run(ctx context.Context, n *node) {
	want := 0
	for _, spec := range n.spec().Programs {
		want += len(spec.Listens) + len(spec.Connects)
	}
	defer func() {
		for began := time.Now(); time.Since(began) < time.Second && ctx.Err() == nil; time.Sleep(time.Millisecond) {
			p.mu.Lock()
			all := len(p.open) >= want
			p.mu.Unlock()
			if all {
				return
			}
		}
	}()
	for i, spec := range n.spec().Programs {
		for _, at := range spec.Listens {
			p.listen(n, i, at)
		}
		for _, to := range spec.Connects {
			p.wg.Go(func() {
				for p.ctx.Err() == nil {
					p.connect(n, i, to)
					select {
					case <-p.ctx.Done():
					case <-time.After(tryAgain):
					}
				}
			})
		}
	}
}

// hold notes a socket; the function that it returns closes it, and tells whoever wants to know.
func (p *programs) hold(program int, ep tcpip.Endpoint) (done func()) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.lastID++
	x := &programSocket{program: program, ep: ep, id: p.lastID, began: time.Now()}
	p.open = append(p.open, x)
	return func() {
		s := x.tell()
		ep.Close()
		p.mu.Lock()
		defer p.mu.Unlock()
		p.open = slices.DeleteFunc(p.open, func(y *programSocket) bool { return y == x })
		for c := range p.ends {
			select {
			case c <- machine.Closing{Socket: s}:
			default:
			}
		}
	}
}

func (p *programs) listen(n *node, program int, at netip.AddrPort) {
	var wq waiter.Queue
	ep, err := n.stack.NewEndpoint(tcp.ProtocolNumber, protoOf(at.Addr()), &wq)
	if err != nil {
		return
	}
	local := tcpip.FullAddress{Port: at.Port()}
	if !at.Addr().IsUnspecified() {
		local.Addr = toTCPIP(at.Addr())
	}
	if ep.Bind(local) != nil || ep.Listen(16) != nil { // the port is taken: as with real programs, it does not listen then
		ep.Close()
		return
	}
	done := p.hold(program, ep)
	p.wg.Go(func() { <-p.ctx.Done(); done() })
}

// connect tries one connection, and keeps it for as long as it lasts.
func (p *programs) connect(n *node, program int, to netip.AddrPort) {
	var wq waiter.Queue
	ep, err := n.stack.NewEndpoint(tcp.ProtocolNumber, protoOf(to.Addr()), &wq)
	if err != nil {
		return
	}
	entry, ready := waiter.NewChannelEntry(waiter.WritableEvents | waiter.EventErr | waiter.EventHUp | waiter.ReadableEvents)
	wq.EventRegister(&entry)
	defer wq.EventUnregister(&entry)
	done := p.hold(program, ep)
	defer done()
	p.mu.Lock()
	p.opens++
	p.mu.Unlock()
	switch ep.Connect(tcpip.FullAddress{Addr: toTCPIP(to.Addr()), Port: to.Port()}).(type) {
	case nil, *tcpip.ErrConnectStarted:
	default:
		return
	}
	patience := time.NewTimer(giveUp)
	defer patience.Stop()
	for {
		select {
		case <-p.ctx.Done():
			return
		case <-patience.C:
			if tcp.EndpointState(ep.State()) != tcp.StateEstablished {
				return
			}
		case <-ready:
			switch tcp.EndpointState(ep.State()) {
			case tcp.StateEstablished, tcp.StateSynSent, tcp.StateConnecting, tcp.StateSynRecv:
			default:
				return
			}
		}
	}
}

// stackStates are the states as gVisor names them.
var stackStates = map[tcp.EndpointState]sockets.State{tcp.StateListen: sockets.Listen, tcp.StateSynSent: sockets.SynSent,
	tcp.StateConnecting: sockets.SynSent, tcp.StateSynRecv: sockets.SynReceived, tcp.StateEstablished: sockets.Established,
	tcp.StateFinWait1: sockets.FinWait1, tcp.StateFinWait2: sockets.FinWait2, tcp.StateCloseWait: sockets.CloseWait,
	tcp.StateClosing: sockets.Closing, tcp.StateLastAck: sockets.LastAck, tcp.StateTimeWait: sockets.TimeWait}

// tell gives the socket as a kernel tells of it.
func (x *programSocket) tell() sockets.Socket {
	s := sockets.Socket{ID: x.id, Inode: x.id, Owner: int32(x.program), State: stackStates[tcp.EndpointState(x.ep.State())]}
	if info, ok := x.ep.Info().(*stack.TransportEndpointInfo); ok {
		local := fromTCPIP(info.ID.LocalAddress)
		if !local.IsValid() {
			local = netip.IPv4Unspecified()
		}
		s.Local = netip.AddrPortFrom(local, info.ID.LocalPort)
		if remote := fromTCPIP(info.ID.RemoteAddress); remote.IsValid() {
			s.Remote = netip.AddrPortFrom(remote, info.ID.RemotePort)
		}
	}
	if unread, err := x.ep.GetSockOptInt(tcpip.ReceiveQueueSizeOption); err == nil && s.State != sockets.Listen {
		s.Unread = uint32(unread)
	}
	var info tcpip.TCPInfoOption
	if s.State != sockets.Listen && x.ep.GetSockOpt(&info) == nil {
		s.Measured, s.RTT, s.RTTVar, s.Timeout = true, info.RTT, info.RTTVar, info.RTO
	}
	if s.State == sockets.SynSent { // sent again after one second, two, four (RFC 6298)
		s.RTT, s.RTTVar = 0, 0
		for step, next := time.Second, time.Second; ; s.Retries++ {
			if left := next - time.Since(x.began); left > 0 {
				s.Expires, s.Timer = left, sockets.Retransmission
				break
			}
			step *= 2
			next += step
		}
	}
	return s
}

// Sockets implements machine.SocketTeller.
func (m *endpointMachine) Sockets(ctx context.Context) (*sockets.Table, error) {
	p := m.programs
	p.begin.Do(func() { p.run(ctx, m.node) })
	p.mu.Lock()
	defer p.mu.Unlock()
	t := &sockets.Table{At: time.Now(), Own: -1, Opens: p.opens, Users: map[uint32]string{}}
	users := map[string]uint32{}
	for i, spec := range m.node.spec().Programs {
		id, known := users[spec.User]
		if !known {
			id = uint32(1000 + i)
			users[spec.User], t.Users[id] = id, spec.User
		}
		t.Programs = append(t.Programs, sockets.Program{PID: spec.PID, Name: spec.Name, User: id, Began: m.began})
	}
	for _, x := range p.open {
		s := x.tell()
		s.User = t.Programs[x.program].User
		if m.privilege != Full {
			s.Owner = -1
		}
		t.Sockets = append(t.Sockets, s)
	}
	if m.privilege != Full {
		t.Programs = nil
		t.Withheld = sockets.Unknown(len(t.Sockets), len(m.node.spec().Programs))
	}
	return t, ctx.Err()
}

// Closings implements machine.SocketTeller.
func (m *endpointMachine) Closings(ctx context.Context) (<-chan machine.Closing, error) {
	p, inner, out := m.programs, make(chan machine.Closing, 256), make(chan machine.Closing)
	p.mu.Lock()
	p.ends[inner] = true
	p.mu.Unlock()
	go func() {
		defer close(out)
		defer func() {
			p.mu.Lock()
			defer p.mu.Unlock()
			delete(p.ends, inner)
		}()
		for {
			select {
			case <-ctx.Done():
				return
			case c := <-inner:
				select {
				case out <- c:
				case <-ctx.Done():
					return
				}
			}
		}
	}()
	return out, nil
}
