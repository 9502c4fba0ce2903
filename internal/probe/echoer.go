// Package probe asks the network, one question at a time: echo, trace, neighbours, names, DHCP, connections, web. It stands on the
// ports of package machine and gives evidence; it judges nothing.
package probe

import (
	"bytes"
	"context"
	"errors"
	"net"
	"net/netip"
	"sync"
	"time"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/rtt"
	"passepartout/internal/guard"
	"passepartout/internal/machine"
)

// Echoer asks for echo over one socket for each family and manner, and matches what comes back to what was sent. It may be used by many
// goroutines.
type Echoer struct {
	m     machine.Machine
	iface string

	mu    sync.Mutex
	lines map[manner]*line
}

// manner tells the sockets of an Echoer apart.
type manner struct{ v6, whole bool }

// line is one echo socket and its requests. The port is opened anew when its interface went and came back.
type line struct {
	port machine.EchoSocket
	mu   sync.Mutex
	next uint16
	open map[uint16]*asked
}

// asked is one request that was sent, kept for a while after its end so that a late answer can be told from a foreign one.
type asked struct {
	to   netip.Addr
	size int    // what it carried
	flow uint16 // and of which flow
	sent time.Time
	got  func(evidence.Reply)
}

// NewEchoer returns an Echoer whose packets leave by iface, or by the routes if that is empty.
func NewEchoer(m machine.Machine, iface string) *Echoer {
	return &Echoer{m: m, iface: iface, lines: map[manner]*line{}}
}

// Close ends all sockets; questions under way end as silent.
func (e *Echoer) Close() {
	e.mu.Lock()
	defer e.mu.Unlock()
	for _, l := range e.lines {
		l.port.Close()
	}
	clear(e.lines)
}

func (e *Echoer) line(how manner) (*line, error) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if l := e.lines[how]; l != nil {
		return l, nil
	}
	port, err := e.m.OpenEcho(machine.EchoConfig{V6: how.v6, Interface: e.iface, DontFragment: how.whole})
	if err != nil {
		return nil, err
	}
	l := &line{port: port, open: map[uint16]*asked{}}
	e.lines[how] = l
	go func() {
		defer guard.Goroutine()
		err := l.receive()
		e.drop(how, l) // nothing is heard on it any more: the next request opens another
		if !errors.Is(err, net.ErrClosed) {
			l.fail(err)
		}
	}()
	return l, nil
}

// drop gives a socket up whose interface has gone, so that the next request opens another.
func (e *Echoer) drop(how manner, l *line) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.lines[how] == l {
		delete(e.lines, how)
		l.port.Close()
	}
}

// EchoQuestion is one echo request.
type EchoQuestion struct {
	To           netip.Addr
	HopLimit     int    // 0: the system's default
	Size         int    // payload octets
	DontFragment bool   // never in fragments
	Flow         uint16 // requests of one flow have the same checksum, whatever their number: balancing routers treat them alike
}

// Ticket is one request that was sent.
type Ticket struct {
	SentAt time.Time
	Seq    uint16
	line   *line
}

// Open reports whether the request was sent over a socket that is still heard.
func (t Ticket) Open() bool { return t.line != nil }

// Forget ends the wait for answers: what comes now is passed over. Each request that was sent must be forgotten once.
func (t Ticket) Forget() {
	if t.line == nil {
		return
	}
	t.line.mu.Lock()
	defer t.line.mu.Unlock()
	delete(t.line.open, t.Seq)
}

// errAllOpen: 65,536 requests are under way over one socket.
var errAllOpen = errors.New("too many requests are under way")

// Send sends one echo request. got is called for everything that comes back to it until it is forgotten, from the receiving goroutine; it
// must not block.
func (e *Echoer) Send(q EchoQuestion, got func(evidence.Reply)) (Ticket, error) {
	how := manner{q.To.Is6(), q.DontFragment}
	l, err := e.line(how)
	if err != nil {
		return Ticket{SentAt: time.Now()}, err
	}
	a := &asked{to: q.To, size: q.Size, flow: q.Flow, got: got}
	l.mu.Lock()
	seq := l.next
	for range 1 << 16 { // numbers wrap; one that is still waited for is passed over
		if l.open[seq] == nil {
			break
		}
		seq++
	}
	if l.open[seq] != nil {
		l.mu.Unlock()
		return Ticket{SentAt: time.Now()}, errAllOpen
	}
	l.next = seq + 1
	l.open[seq] = a
	// The request is sent under the lock, so that its answer cannot be matched before its time of sending is known.
	a.sent, err = l.port.Send(machine.EchoRequest{To: q.To, Seq: seq, HopLimit: q.HopLimit, Payload: echoPayload(q.Size, seq, q.Flow)})
	t := Ticket{SentAt: a.sent, Seq: seq, line: l}
	l.mu.Unlock()
	if err != nil {
		t.Forget()
		if errors.Is(err, machine.ErrGone) {
			e.drop(how, l)
		}
		return Ticket{SentAt: time.Now()}, err
	}
	return t, nil
}

// Ask sends one echo request and waits for what comes back, until ctx ends. sentAt is when it was sent.
func (e *Echoer) Ask(ctx context.Context, q EchoQuestion) (r evidence.Reply, sentAt time.Time) {
	sentAt = time.Now()
	return e.send(q)(ctx), sentAt
}

// send sends one echo request; what it returns waits for what comes back.
func (e *Echoer) send(q EchoQuestion) waiting {
	answer := make(chan evidence.Reply, 1)
	t, err := e.Send(q, func(r evidence.Reply) {
		select {
		case answer <- r:
		default: // a second copy
		}
	})
	return func(ctx context.Context) evidence.Reply {
		if err != nil {
			return machine.LocalError(err)
		}
		defer t.Forget()
		return await(ctx, answer, t.SentAt)
	}
}

// fail tells all requests under way that their answers will not be heard: that is no silence.
func (l *line) fail(err error) {
	l.mu.Lock()
	var open []*asked
	for _, a := range l.open {
		open = append(open, a)
	}
	l.mu.Unlock()
	for _, a := range open {
		a.got(machine.LocalError(err))
	}
}

func (l *line) receive() error {
	for {
		got, err := l.port.Receive()
		if err != nil {
			return err
		}
		l.mu.Lock()
		a := l.open[got.Seq]
		l.mu.Unlock()
		// A reply counts only from whom it was asked of, an error only about whom was asked: the rest is foreign or forged.
		// "From" may differ for a request to one of the machine's own or a group address; those are not asked here.
		if a == nil || a.to.WithZone("") != got.To.WithZone("") {
			continue
		}
		// A reply gives back what the request carried (RFC 792, RFC 4443 §4.2); some give back its beginning alone.
		if got.Outcome == evidence.Answered && !bytes.HasPrefix(echoPayload(a.size, got.Seq, a.flow), got.Data) {
			continue
		}
		a.got(reply(got.Arrival, a.sent))
	}
}

// reply turns an arrival into evidence about a packet sent at that time.
func reply(a machine.Arrival, sent time.Time) evidence.Reply {
	return evidence.Reply{Outcome: a.Outcome, From: a.From, Why: a.Why, ICMPType: a.ICMPType, ICMPCode: a.ICMPCode, MTU: a.MTU,
		HopLimitLeft: a.HopLimitLeft, Reason: a.Reason, RTT: rtt.RoundTrip(sent, a.At, rtt.Stamps{Departed: a.Departed, Arrived: a.Stamp})}
}

// payload is what datagrams carry: a pattern that a middlebox may mangle and a reader of a capture recognizes.
func payload(size int) []byte {
	b := make([]byte, size)
	for i := range b {
		b[i] = byte('a' + i%26)
	}
	return b
}

// echoPayload is the pattern with two octets that make up for the sequence number, and two that name the flow.
func echoPayload(size int, seq, flow uint16) []byte {
	b := payload(size)
	if size >= 4 {
		b[0], b[1], b[2], b[3] = byte(^seq>>8), byte(^seq), byte(flow>>8), byte(flow)
	}
	return b
}
