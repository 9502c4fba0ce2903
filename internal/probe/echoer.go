// Package probe asks the network, one question at a time: echo, trace, neighbours, names, DHCP, connections, web. It stands on the
// ports of package machine and gives evidence; it judges nothing.
package probe

import (
	"context"
	"net/netip"
	"sync"
	"time"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/rtt"
	"passepartout/internal/machine"
)

// Echoer asks for echo over one socket a family and matches what comes back to what was sent. It may be used by many goroutines.
type Echoer struct {
	m     machine.Machine
	iface string

	// Stray, if set before the first Ask, is called for each answer that comes after its time or a second time, from the receiving goroutine.
	Stray func(to netip.Addr, seq uint16, r evidence.Reply, duplicate bool)

	mu    sync.Mutex
	ports map[bool]*echoSocket
}

type echoSocket struct {
	port machine.EchoPort
	mu   sync.Mutex
	next uint16
	open map[uint16]*asked
}

// asked is one request that was sent, kept for a while after its end so that a late answer can be told from a foreign one.
type asked struct {
	to      netip.Addr
	sent    time.Time
	answer  chan evidence.Reply
	over    bool // its time is over
	replied bool
}

// NewEchoer returns an Echoer whose packets leave by iface, or by the routes if that is empty.
func NewEchoer(m machine.Machine, iface string) *Echoer {
	return &Echoer{m: m, iface: iface, ports: map[bool]*echoSocket{}}
}

// Close ends all sockets; questions under way end as silent.
func (e *Echoer) Close() {
	e.mu.Lock()
	defer e.mu.Unlock()
	for _, s := range e.ports {
		s.port.Close()
	}
	clear(e.ports)
}

func (e *Echoer) socket(v6 bool) (*echoSocket, error) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if s := e.ports[v6]; s != nil {
		return s, nil
	}
	port, err := e.m.OpenEcho(v6, e.iface)
	if err != nil {
		return nil, err
	}
	s := &echoSocket{port: port, open: map[uint16]*asked{}}
	e.ports[v6] = s
	go s.receive(e)
	return s, nil
}

// EchoQuestion is one echo request.
type EchoQuestion struct {
	To       netip.Addr
	HopLimit int // 0: the system's default
	Size     int // payload octets
}

// Ask sends one echo request and waits for what comes back, until ctx ends. sentAt is when it was sent, seq its number.
func (e *Echoer) Ask(ctx context.Context, q EchoQuestion) (r evidence.Reply, sentAt time.Time, seq uint16) {
	s, err := e.socket(q.To.Is6())
	if err != nil {
		return machine.LocalError(err), time.Now(), 0
	}
	a := &asked{to: q.To, answer: make(chan evidence.Reply, 1)}
	s.mu.Lock()
	seq = s.next
	s.next++
	s.open[seq] = a
	// The request is sent under the lock, so that its answer cannot be matched before its time of sending is known.
	a.sent, err = s.port.Send(machine.EchoRequest{To: q.To, Seq: seq, HopLimit: q.HopLimit, Payload: payload(q.Size)})
	s.mu.Unlock()
	if err != nil {
		s.forget(seq)
		return machine.LocalError(err), time.Now(), seq
	}
	select {
	case r = <-a.answer:
		return r, a.sent, seq
	case <-ctx.Done():
		s.mu.Lock()
		a.over = true
		s.mu.Unlock()
		select {
		case r = <-a.answer:
			return r, a.sent, seq
		default:
		}
		time.AfterFunc(lateFor, func() { s.forget(seq) })
		return evidence.Reply{Outcome: evidence.Silent, Waited: time.Since(a.sent)}, a.sent, seq
	}
}

// lateFor is how long an answer may come late and still be told from a foreign one.
const lateFor = 10 * time.Second

func (s *echoSocket) forget(seq uint16) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.open, seq)
}

func (s *echoSocket) receive(e *Echoer) {
	for {
		got, err := s.port.Receive()
		if err != nil {
			return
		}
		s.mu.Lock()
		a := s.open[got.Seq]
		// A reply counts only from whom it was asked of, an error only about whom was asked: the rest is foreign or forged.
		// "From" may differ for a request to one of the machine's own or a group address; those are not asked here.
		if a == nil || a.to.WithZone("") != got.To.WithZone("") {
			s.mu.Unlock()
			continue
		}
		r := reply(got.Arrival, a.sent)
		duplicate, late := a.replied, a.over
		a.replied = true
		s.mu.Unlock()
		if duplicate || late {
			if e.Stray != nil {
				e.Stray(a.to, got.Seq, r, duplicate)
			}
			continue
		}
		a.answer <- r
	}
}

// reply turns an arrival into evidence about a packet sent at that time.
func reply(a machine.Arrival, sent time.Time) evidence.Reply {
	return evidence.Reply{Outcome: a.Outcome, From: a.From, Why: a.Why, ICMPType: a.ICMPType, ICMPCode: a.ICMPCode,
		HopLimitLeft: a.HopLimitLeft, Reason: a.Reason, RTT: rtt.RoundTrip(sent, a.At, rtt.Stamps{Departed: a.Departed, Arrived: a.Stamp})}
}

// payload is what echo requests and datagrams carry: a pattern that a middlebox may mangle and a reader of a capture recognizes.
func payload(size int) []byte {
	b := make([]byte, size)
	for i := range b {
		b[i] = byte('a' + i%26)
	}
	return b
}
