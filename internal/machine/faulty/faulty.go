// Package faulty makes of a machine one whose every call can fail, come late or be cut short, by a seed: for tests of what stands
// above it.
package faulty

import (
	"context"
	"errors"
	"io/fs"
	"math/rand/v2"
	"net"
	"net/netip"
	"sync"
	"time"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/machine"
)

// Machine is such a machine. Whatever it does keeps to the words of machine.Machine: no call outlasts its context, and every error is one
// that a system may give.
type Machine struct {
	machine.Machine
	Percent int // of the calls that go wrong

	mu  sync.Mutex
	rng *rand.Rand
}

// New makes a machine faulty.
func New(m machine.Machine, seed uint64, percent int) *Machine {
	return &Machine{Machine: m, Percent: percent, rng: rand.New(rand.NewPCG(seed, 7))}
}

// latest is how late a call may come.
const latest = 400 * time.Millisecond

var errs = []error{errors.New("input/output error"), fs.ErrPermission, machine.ErrNoRoute, machine.ErrGone, machine.ErrDown,
	machine.ErrTooLong}

// fault is what happens to one call.
type fault struct {
	err   error
	late  time.Duration
	short bool
}

func (m *Machine) fault() (f fault) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.rng.IntN(100) >= m.Percent {
		return f
	}
	switch m.rng.IntN(3) {
	case 0:
		f.err = errs[m.rng.IntN(len(errs))]
	case 1:
		f.late = time.Duration(m.rng.Int64N(int64(latest)))
	default:
		f.short = true
	}
	return f
}

// cut gives octets that were cut short.
func (m *Machine) cut(b []byte) []byte {
	m.mu.Lock()
	defer m.mu.Unlock()
	return b[:m.rng.IntN(len(b)+1)]
}

// wait waits, for as long as nothing ends it.
func wait(ctx context.Context, d time.Duration) error {
	select {
	case <-time.After(d):
		return ctx.Err()
	case <-ctx.Done():
		return ctx.Err()
	}
}

func (m *Machine) call(ctx context.Context) error {
	f := m.fault()
	if f.late > 0 {
		return wait(ctx, f.late)
	}
	return f.err
}

// Interfaces implements machine.Machine.
func (m *Machine) Interfaces(ctx context.Context) ([]endpoint.Interface, error) {
	if err := m.call(ctx); err != nil {
		return nil, err
	}
	return m.Machine.Interfaces(ctx)
}

// Neighbours implements machine.Machine.
func (m *Machine) Neighbours(ctx context.Context) ([]endpoint.Neighbour, error) {
	if err := m.call(ctx); err != nil {
		return nil, err
	}
	return m.Machine.Neighbours(ctx)
}

// Route implements machine.Machine.
func (m *Machine) Route(ctx context.Context, to netip.Addr, iface string) (endpoint.RouteAnswer, error) {
	if err := m.call(ctx); err != nil {
		return endpoint.RouteAnswer{To: to}, err
	}
	return m.Machine.Route(ctx, to, iface)
}

// Connect implements machine.Machine.
func (m *Machine) Connect(ctx context.Context, c machine.ConnectConfig) (net.Conn, evidence.Reply) {
	if err := m.call(ctx); err != nil {
		if ctx.Err() != nil {
			return nil, evidence.Reply{Outcome: evidence.Silent}
		}
		return nil, machine.LocalError(err)
	}
	return m.Machine.Connect(ctx, c)
}

// OpenEcho implements machine.Machine.
func (m *Machine) OpenEcho(c machine.EchoConfig) (machine.EchoSocket, error) {
	if err := m.fault().err; err != nil {
		return nil, err
	}
	s, err := m.Machine.OpenEcho(c)
	if err != nil {
		return nil, err
	}
	return &echoSocket{s, m}, nil
}

type echoSocket struct {
	machine.EchoSocket
	m *Machine
}

func (s *echoSocket) Send(r machine.EchoRequest) (time.Time, error) {
	if f := s.m.fault(); f.err != nil {
		return time.Now(), f.err
	}
	return s.EchoSocket.Send(r)
}

func (s *echoSocket) Receive() (machine.EchoArrival, error) {
	f := s.m.fault()
	if f.err != nil { // and what has arrived stays to be fetched
		return machine.EchoArrival{}, f.err
	}
	a, err := s.EchoSocket.Receive()
	time.Sleep(f.late)
	return a, err
}

// OpenFlow implements machine.Machine.
func (m *Machine) OpenFlow(c machine.FlowConfig) (machine.FlowSocket, error) {
	if err := m.fault().err; err != nil {
		return nil, err
	}
	s, err := m.Machine.OpenFlow(c)
	if err != nil {
		return nil, err
	}
	return &flowSocket{s, m}, nil
}

type flowSocket struct {
	machine.FlowSocket
	m *Machine
}

func (s *flowSocket) Send(number uint16, hopLimit int) (time.Time, error) {
	if f := s.m.fault(); f.err != nil {
		return time.Now(), f.err
	}
	return s.FlowSocket.Send(number, hopLimit)
}

func (s *flowSocket) Receive() (uint16, machine.Arrival, error) {
	f := s.m.fault()
	if f.err != nil {
		return 0, machine.Arrival{}, f.err
	}
	n, a, err := s.FlowSocket.Receive()
	time.Sleep(f.late)
	return n, a, err
}

// OpenDatagram implements machine.Machine.
func (m *Machine) OpenDatagram(c machine.DatagramConfig) (machine.DatagramSocket, error) {
	if err := m.fault().err; err != nil {
		return nil, err
	}
	s, err := m.Machine.OpenDatagram(c)
	if err != nil {
		return nil, err
	}
	return &datagramSocket{s, m}, nil
}

type datagramSocket struct {
	machine.DatagramSocket
	m *Machine
}

func (s *datagramSocket) Send(b []byte) (time.Time, error) {
	if f := s.m.fault(); f.err != nil {
		return time.Now(), f.err
	}
	return s.DatagramSocket.Send(b)
}

func (s *datagramSocket) Receive(ctx context.Context) ([]byte, machine.Arrival, error) {
	f := s.m.fault()
	if f.err != nil {
		return nil, machine.Arrival{}, f.err
	}
	b, a, err := s.DatagramSocket.Receive(ctx)
	switch {
	case err != nil:
	case f.late > 0:
		if err := wait(ctx, f.late); err != nil {
			return nil, a, err
		}
	case f.short:
		b = s.m.cut(b)
	}
	return b, a, err
}

// OpenFrames implements machine.Machine.
func (m *Machine) OpenFrames(c machine.FrameConfig) (machine.FrameSocket, error) {
	if err := m.fault().err; err != nil {
		return nil, err
	}
	s, err := m.Machine.OpenFrames(c)
	if err != nil {
		return nil, err
	}
	return &frameSocket{s, m}, nil
}

type frameSocket struct {
	machine.FrameSocket
	m *Machine
}

func (s *frameSocket) Send(frame []byte) error {
	if f := s.m.fault(); f.err != nil {
		return f.err
	}
	return s.FrameSocket.Send(frame)
}

func (s *frameSocket) Receive() ([]byte, time.Time, error) {
	frame, at, err := s.FrameSocket.Receive()
	if f := s.m.fault(); err == nil && f.short {
		frame = s.m.cut(frame)
	}
	return frame, at, err
}
