package plan_test

import (
	"context"
	"crypto/x509"
	"net"
	"net/netip"
	"slices"
	"sync"
	"time"

	"github.com/miekg/dns"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/subnet"
	"passepartout/internal/machine"
	"passepartout/internal/machine/wire"
)

// stage is a machine on a small healthy network of IPv4, of which whatever comes is decided by a script: octet after octet it says whether
// the truth comes, nothing, noise of the script's own octets, or the truth with octets changed. It has no clock but time's, so that it
// stands in a bubble.
type stage struct {
	endpoint  *endpoint.Endpoint
	truthful  bool // the truth always comes: the script only adds to it
	mu        sync.Mutex
	script    []byte
	heard     map[*stageFrames]bool
	neighbour map[netip.Addr]endpoint.HardwareAddr
	late      map[netip.Addr]time.Duration // by how much a neighbour's answers are
}

var (
	own, gateway = netip.MustParseAddr("172.27.40.23"), netip.MustParseAddr("172.27.40.1")
	core         = netip.MustParseAddr("172.27.40.2")
	bookings     = netip.MustParseAddr("203.0.113.80")
	segment      = netip.MustParsePrefix("172.27.40.0/24")
	ownHardware  = endpoint.HardwareAddr{2, 0, 0, 0, 0, 0x23}
)

func newStage(e *endpoint.Endpoint, script []byte, truthful bool) *stage {
	return &stage{endpoint: e, script: script, truthful: truthful, heard: map[*stageFrames]bool{},
		neighbour: map[netip.Addr]endpoint.HardwareAddr{gateway: {2, 0, 0, 0, 0, 1}, core: {2, 0, 0, 0, 0, 2}}}
}

func (s *stage) next() byte {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.script) == 0 {
		return 0
	}
	b := s.script[0]
	s.script = s.script[1:]
	return b
}

// noise is what the script says next, up to 255 octets of it.
func (s *stage) noise() []byte {
	n := int(s.next())
	s.mu.Lock()
	defer s.mu.Unlock()
	n = min(n, len(s.script))
	b := slices.Clone(s.script[:n])
	s.script = s.script[n:]
	return b
}

// played are the octets that come in place of the truth, in order.
func (s *stage) played(truth []byte) (out [][]byte) {
	switch b := s.next(); {
	case b < 0x80:
	case s.truthful || b < 0xb0:
		out = append(out, s.noise())
	case b < 0xd0:
		return [][]byte{s.noise()}
	case b < 0xe0:
		return nil
	default:
		wrong := slices.Clone(truth)
		for range b & 7 {
			if len(wrong) > 0 {
				wrong[int(s.next())%len(wrong)] = s.next()
			}
		}
		return [][]byte{wrong}
	}
	if truth != nil {
		out = append(out, truth)
	}
	return out
}

// comes reports whether the truth comes where it is no octets.
func (s *stage) comes() bool { return s.truthful || s.next() < 0xc0 }

func (s *stage) Read(context.Context) (*endpoint.Endpoint, error) { return s.endpoint, nil }
func (s *stage) Interfaces(context.Context) ([]endpoint.Interface, error) {
	return s.endpoint.Interfaces, nil
}
func (s *stage) Neighbours(context.Context) ([]endpoint.Neighbour, error) {
	return s.endpoint.Neighbours, nil
}
func (s *stage) Watch(context.Context) (<-chan struct{}, error) { return make(chan struct{}), nil }
func (s *stage) Roots() *x509.CertPool                          { return x509.NewCertPool() }
func (s *stage) Permissions() machine.Permissions {
	return machine.Permissions{Echo: machine.Permission{Granted: true}, Frames: machine.Permission{Granted: true}}
}

func (s *stage) Route(_ context.Context, to netip.Addr, _ string) (endpoint.RouteAnswer, error) {
	answer := endpoint.RouteAnswer{To: to, Verdict: endpoint.Forward, Interface: "eth0", Source: own}
	switch {
	case to == own || to.IsLoopback():
		answer = endpoint.RouteAnswer{To: to, Verdict: endpoint.LocalRoute, Interface: "lo", Source: to}
	case to.Is6():
		answer = endpoint.RouteAnswer{To: to, Verdict: endpoint.NoRoute, Reason: "no route covers it"}
	case !segment.Contains(to):
		answer.Via = gateway
	}
	return answer, nil
}

// hop is what the network does with a packet: who answers it and how; Silent for nobody.
func (s *stage) hop(to netip.Addr, limit int) (evidence.Outcome, netip.Addr) {
	_, forwards := s.neighbour[gateway]
	switch {
	case !forwards && (to == gateway || !segment.Contains(to) && !to.IsLoopback()):
		return evidence.Silent, netip.Addr{}
	case to == own || to.IsLoopback() || to == gateway || to == core:
		return evidence.Answered, to
	case segment.Contains(to) || subnet.KindOf(to) == subnet.Multicast:
		return evidence.Silent, netip.Addr{}
	case limit == 1:
		return evidence.Expired, gateway
	case to == bookings:
		return evidence.Answered, to
	}
	return evidence.Silent, netip.Addr{}
}

func after(d time.Duration, f func()) { time.AfterFunc(d, f) }

// queue hands over what comes until it is closed.
type queue[T any] struct {
	items chan T
	done  chan struct{}
	once  sync.Once
}

func newQueue[T any]() *queue[T] {
	return &queue[T]{items: make(chan T, 256), done: make(chan struct{})}
}

func (q *queue[T]) put(x T) {
	select {
	case q.items <- x:
	default:
	}
}

func (q *queue[T]) take(ctx context.Context) (x T, err error) {
	select {
	case x = <-q.items:
		return x, nil
	case <-q.done:
		return x, net.ErrClosed
	case <-ctx.Done():
		return x, ctx.Err()
	}
}

func (q *queue[T]) Close() error { q.once.Do(func() { close(q.done) }); return nil }

func answered(from netip.Addr) machine.Arrival {
	return machine.Arrival{Outcome: evidence.Answered, From: from, HopLimitLeft: 60, At: time.Now()}
}

type stageEcho struct {
	*queue[machine.EchoArrival]
	stage *stage
}

func (s *stage) OpenEcho(machine.EchoConfig) (machine.EchoSocket, error) {
	return &stageEcho{newQueue[machine.EchoArrival](), s}, nil
}

func (p *stageEcho) Send(r machine.EchoRequest) (time.Time, error) {
	sent := time.Now()
	outcome, from := p.stage.hop(r.To, r.HopLimit)
	if r.To.Is6() && !r.To.IsLoopback() {
		return sent, machine.ErrNoRoute
	}
	for i, data := range p.stage.played(r.Payload) {
		after(time.Duration(i+1)*time.Millisecond, func() {
			if outcome != evidence.Silent {
				a := answered(from)
				a.Outcome, a.Size = outcome, len(data)
				p.put(machine.EchoArrival{Seq: r.Seq, To: r.To, Data: data, Arrival: a})
			}
		})
	}
	return sent, nil
}

func (p *stageEcho) Receive() (machine.EchoArrival, error) { return p.take(context.Background()) }

type numbered struct {
	number uint16
	machine.Arrival
}

type stageFlow struct {
	*queue[numbered]
	stage *stage
	c     machine.FlowConfig
}

func (s *stage) OpenFlow(c machine.FlowConfig) (machine.FlowSocket, error) {
	return &stageFlow{newQueue[numbered](), s, c}, nil
}

func (p *stageFlow) Send(number uint16, hopLimit int) (time.Time, error) {
	outcome, from := p.stage.hop(p.c.To.Addr(), hopLimit)
	if outcome == evidence.Answered && p.c.Proto == machine.FlowUDP {
		outcome = evidence.Refused
	}
	if outcome != evidence.Silent && p.stage.comes() {
		after(2*time.Millisecond, func() {
			a := answered(from)
			a.Outcome = outcome
			p.put(numbered{number, a})
		})
	}
	return time.Now(), nil
}

func (p *stageFlow) Receive() (uint16, machine.Arrival, error) {
	n, err := p.take(context.Background())
	return n.number, n.Arrival, err
}

type datagram struct {
	payload []byte
	machine.Arrival
}

type stageDatagrams struct {
	*queue[datagram]
	stage *stage
	to    netip.AddrPort
}

func (s *stage) OpenDatagram(c machine.DatagramConfig) (machine.DatagramSocket, error) {
	return &stageDatagrams{newQueue[datagram](), s, c.To}, nil
}

func (p *stageDatagrams) Send(payload []byte) (time.Time, error) {
	if p.to.Addr().Is6() {
		return time.Now(), machine.ErrNoRoute
	}
	for i, b := range p.stage.played(p.answer(payload)) {
		after(time.Duration(i+1)*time.Millisecond, func() {
			a := answered(p.to.Addr())
			a.Size = len(b)
			p.put(datagram{b, a})
		})
	}
	return time.Now(), nil
}

// answer is what the name server says; nobody else answers datagrams.
func (p *stageDatagrams) answer(question []byte) []byte {
	q := new(dns.Msg)
	if p.to != netip.AddrPortFrom(core, 53) || q.Unpack(question) != nil || len(q.Question) != 1 {
		return nil
	}
	a := new(dns.Msg).SetReply(q)
	if x := q.Question[0]; x.Name != "bookings.kittiwake.example." {
		a.Rcode = dns.RcodeNameError
	} else if x.Qtype == dns.TypeA {
		a.Answer = []dns.RR{&dns.A{Hdr: dns.RR_Header{Name: x.Name, Rrtype: dns.TypeA, Class: x.Qclass, Ttl: 60}, A: bookings.AsSlice()}}
	}
	packed, err := a.Pack()
	if err != nil {
		return nil
	}
	return packed
}

func (p *stageDatagrams) Receive(ctx context.Context) ([]byte, machine.Arrival, error) {
	d, err := p.take(ctx)
	return d.payload, d.Arrival, err
}

func (s *stage) Connect(ctx context.Context, c machine.ConnectConfig) (net.Conn, evidence.Reply) {
	began := time.Now()
	timer := time.NewTimer(3 * time.Millisecond)
	defer timer.Stop()
	outcome, from := s.hop(c.To.Addr(), c.HopLimit)
	if outcome == evidence.Silent || !s.comes() {
		<-ctx.Done()
		return nil, evidence.Reply{Outcome: evidence.Silent, Waited: time.Since(began)}
	}
	select {
	case <-timer.C:
	case <-ctx.Done():
		return nil, evidence.Reply{Outcome: evidence.Silent, Waited: time.Since(began)}
	}
	if outcome == evidence.Expired {
		return nil, evidence.Reply{Outcome: outcome, From: from, RTT: time.Since(began)}
	}
	if c.To != netip.AddrPortFrom(bookings, 443) {
		return nil, evidence.Reply{Outcome: evidence.Refused, From: from, RTT: time.Since(began)}
	}
	near, farEnd := net.Pipe()
	said := s.noise()
	go func() { // reads what is asked, says what the script has, and hangs up
		b := make([]byte, 4096)
		_ = farEnd.SetDeadline(time.Now().Add(20 * time.Second))
		_, _ = farEnd.Read(b)
		_, _ = farEnd.Write(said)
		farEnd.Close()
	}()
	return near, evidence.Reply{Outcome: evidence.Answered, From: from, RTT: time.Since(began)}
}

type heardFrame struct {
	frame []byte
	at    time.Time
}

type stageFrames struct {
	*queue[heardFrame]
	stage *stage
}

func (s *stage) OpenFrames(machine.FrameConfig) (machine.FrameSocket, error) {
	p := &stageFrames{newQueue[heardFrame](), s}
	s.mu.Lock()
	s.heard[p] = true
	s.mu.Unlock()
	return p, nil
}

func (p *stageFrames) Hardware() endpoint.HardwareAddr { return ownHardware }

// hear gives a frame to all that listen.
func (s *stage) hear(frame []byte) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for p := range s.heard {
		p.put(heardFrame{slices.Clone(frame), time.Now()})
	}
}

func (p *stageFrames) Send(frame []byte) error {
	var truth []byte
	var late time.Duration
	if f, ok := wire.ParseFrame(frame); ok && f.Asks.IsValid() {
		late = p.stage.late[f.Asks]
		if hw, known := p.stage.neighbour[f.Asks]; known {
			truth = wire.ARPReply(hw, f.Asks, ownHardware, own)
		}
	}
	for i, b := range p.stage.played(truth) {
		if f, ok := wire.ParseFrame(b); p.stage.truthful && ok && &b[0] != &truth[0] && (f.Claim.IsValid() || f.Payload != nil) {
			continue // another holder of an address, another server: that would be a fault
		}
		after(late+time.Duration(i+1)*time.Millisecond, func() { p.stage.hear(b) })
	}
	return nil
}

func (p *stageFrames) Receive() ([]byte, time.Time, error) {
	h, err := p.take(context.Background())
	return h.frame, h.at, err
}
