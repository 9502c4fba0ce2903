package probe

import (
	"context"
	"errors"
	"io/fs"
	"net/netip"
	"sync"
	"time"

	"passepartout/internal/core/evidence"
	"passepartout/internal/guard"
	"passepartout/internal/machine"
)

// flow asks with packets of one flow, so that routers which share load between several ways treat them alike.
type flow struct {
	port machine.FlowSocket

	mu   sync.Mutex
	next uint16
	open map[uint16]*flowAsked
}

type flowAsked struct {
	sent   time.Time
	answer chan evidence.Reply
}

func openFlow(m machine.Machine, c machine.FlowConfig) (*flow, error) {
	port, err := m.OpenFlow(c)
	if err != nil {
		return nil, err
	}
	f := &flow{port: port, open: map[uint16]*flowAsked{}}
	go func() {
		defer guard.Goroutine()
		f.receive()
	}()
	return f, nil
}

func (f *flow) close() { f.port.Close() }

func (f *flow) receive() {
	for {
		number, a, err := f.port.Receive()
		if err != nil {
			return
		}
		f.mu.Lock()
		q := f.open[number]
		f.mu.Unlock()
		if q == nil {
			continue
		}
		select {
		case q.answer <- reply(a, q.sent):
		default: // a second copy
		}
	}
}

// send sends one packet with a hop limit; wait waits for what comes back to it, until its context ends, and must be called.
func (f *flow) send(hopLimit int) (wait waiting) {
	q := &flowAsked{answer: make(chan evidence.Reply, 1)}
	f.mu.Lock()
	number := f.next
	f.next++
	f.open[number] = q
	// Under the lock, so that the answer cannot be matched before the time of sending is known.
	sent, err := f.port.Send(number, hopLimit)
	q.sent = sent
	f.mu.Unlock()
	return func(ctx context.Context) evidence.Reply {
		defer func() {
			f.mu.Lock()
			delete(f.open, number)
			f.mu.Unlock()
		}()
		if err != nil {
			return machine.LocalError(err)
		}
		return await(ctx, q.answer, sent)
	}
}

// waiting waits for what comes back to a packet that was sent.
type waiting func(context.Context) evidence.Reply

func await(ctx context.Context, answer <-chan evidence.Reply, sent time.Time) evidence.Reply {
	select {
	case r := <-answer:
		return r
	case <-ctx.Done():
	}
	select {
	case r := <-answer:
		return r
	default:
		return evidence.Reply{Outcome: evidence.Silent, Waited: time.Since(sent)}
	}
}

// hopAsker sends packets with a hop limit, all in one flow, in the order in which it is called.
type hopAsker struct {
	send  func(hopLimit int) waiting
	close func()
	apart bool // each packet is a flow of its own, for want of permission
}

// openHops opens one flow of a method.
func openHops(e *Echoer, to netip.AddrPort, method TraceMethod, number int) (hopAsker, error) {
	if method == TraceICMP {
		return hopAsker{close: func() {}, send: func(hop int) waiting {
			return e.send(EchoQuestion{To: to.Addr(), HopLimit: hop, Size: 24, Flow: uint16(number)})
		}}, nil
	}
	c := machine.FlowConfig{To: to, Proto: machine.FlowTCP, Interface: e.iface}
	if method == TraceUDP {
		c.To, c.Proto = netip.AddrPortFrom(to.Addr(), unusedPort), machine.FlowUDP
	}
	f, err := openFlow(e.m, c)
	switch {
	case err == nil:
		return hopAsker{send: f.send, close: f.close}, nil
	case method == TraceTCP && errors.Is(err, fs.ErrPermission):
		return hopAsker{apart: true, close: func() {}, send: func(hop int) waiting {
			return func(ctx context.Context) evidence.Reply {
				return AskConnect(ctx, e.m, machine.ConnectConfig{To: to, HopLimit: hop, Interface: e.iface})
			}
		}}, nil
	}
	return hopAsker{}, err
}
