// Package shared opens each interface of a machine for frames once, however many listen to it: one owner of the socket, and subscribers.
// The socket comes back by itself when its interface does, and those who listen are told of the time in which nothing could be heard.
package shared

import (
	"errors"
	"net"
	"sync"
	"time"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/guard"
	"passepartout/internal/machine"
)

// Gap is a time in which nothing could be heard at an interface. To is zero while it lasts.
type Gap struct {
	Interface string
	From, To  time.Time
	Why       string
}

// Machine is a machine whose sockets for frames are shared. The rest is the machine's own.
type Machine struct {
	machine.Machine
	gap func(Gap)

	mu    sync.Mutex
	owned map[key]*owner
}

// key tells the sockets apart: those that hear everything, and those for which the kernel passes little.
type key struct {
	iface string
	only  machine.Filter
}

// New shares a machine's sockets. gap, if not nil, is called when a gap in hearing begins and when it ends; it must not block.
func New(m machine.Machine, gap func(Gap)) *Machine {
	if gap == nil {
		gap = func(Gap) {}
	}
	return &Machine{Machine: m, gap: gap, owned: map[key]*owner{}}
}

// OpenFrames implements machine.Machine: it subscribes to the interface's one socket, which is opened for the first subscriber and closed
// after the last.
func (m *Machine) OpenFrames(c machine.FrameConfig) (machine.FrameSocket, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	k := key{c.Interface, c.Only}
	o := m.owned[k]
	if o == nil {
		port, err := m.Machine.OpenFrames(machine.FrameConfig{Interface: c.Interface, Own: true, Only: c.Only})
		if err != nil {
			return nil, err
		}
		o = &owner{shared: m, key: k, port: port, hw: port.Hardware(), ended: make(chan struct{}), listening: map[*subscription]bool{}}
		m.owned[k] = o
		go func() {
			defer guard.Goroutine()
			o.receive()
		}()
	}
	s := &subscription{owner: o, own: c.Own, frames: make(chan heard, queue), closed: make(chan struct{})}
	o.listening[s] = true
	return s, nil
}

// queue is how many frames wait for a subscriber that is busy. More than that is dropped, as a kernel would.
const queue = 512

// reopenEvery is how often it is tried to hear an interface again.
const reopenEvery = 250 * time.Millisecond

// soundAfter is when a socket that has not failed since it was opened counts as one that hears.
const soundAfter = 300 * time.Millisecond

// owner has the one socket.
type owner struct {
	shared *Machine
	key    key
	ended  chan struct{} // closed when nobody listens any more

	// Guarded by shared.mu.
	port      machine.FrameSocket
	hw        endpoint.HardwareAddr
	gap       Gap // in which nothing is heard at present; zero: there is none
	listening map[*subscription]bool
}

type heard struct {
	frame []byte
	at    time.Time
}

// receive hands out what comes, and opens the interface anew when it went and came back.
func (o *owner) receive() {
	for port := o.port; port != nil; port = o.reopen() {
		hears := time.AfterFunc(soundAfter, o.hears) // a socket of an interface that is off says so at once
		for {
			frame, at, err := port.Receive()
			if err != nil {
				hears.Stop()
				if o.over() {
					return
				}
				o.deafened(err)
				break
			}
			o.hand(frame, at, nil)
		}
		port.Close()
	}
}

// reopen opens the interface again, however long that takes. It is nil when nobody listens any more.
func (o *owner) reopen() machine.FrameSocket {
	for {
		select {
		case <-o.ended:
			return nil
		case <-time.After(reopenEvery):
		}
		port, err := o.shared.Machine.OpenFrames(machine.FrameConfig{Interface: o.key.iface, Own: true, Only: o.key.only})
		o.shared.mu.Lock()
		if len(o.listening) == 0 {
			o.shared.mu.Unlock()
			if err == nil {
				port.Close()
			}
			return nil
		}
		if err == nil {
			o.port, o.hw = port, port.Hardware()
			o.shared.mu.Unlock()
			return port
		}
		o.shared.mu.Unlock()
	}
}

// deafened begins a gap, if there is none.
func (o *owner) deafened(err error) {
	o.shared.mu.Lock()
	begins := o.gap.From.IsZero()
	if begins {
		o.gap = Gap{Interface: o.key.iface, From: time.Now(), Why: err.Error()}
	}
	gap := o.gap
	o.shared.mu.Unlock()
	if begins {
		o.shared.gap(gap)
	}
}

// hears ends a gap, if there is one.
func (o *owner) hears() {
	o.shared.mu.Lock()
	gap := o.gap
	o.gap = Gap{}
	over := len(o.listening) == 0
	o.shared.mu.Unlock()
	if !gap.From.IsZero() && !over {
		gap.To = time.Now()
		o.shared.gap(gap)
	}
}

func (o *owner) over() bool {
	select {
	case <-o.ended:
		return true
	default:
		return false
	}
}

// hand gives a frame to everybody but the one who sent it.
func (o *owner) hand(frame []byte, at time.Time, sender *subscription) {
	o.shared.mu.Lock()
	defer o.shared.mu.Unlock()
	mine := len(frame) >= 12 && [6]byte(frame[6:12]) == o.hw
	for s := range o.listening {
		if s == sender || mine && !s.own {
			continue
		}
		select {
		case s.frames <- heard{append([]byte(nil), frame...), at}:
		default:
		}
	}
}

// subscription is one who listens.
type subscription struct {
	owner  *owner
	own    bool
	frames chan heard
	closed chan struct{}
	once   sync.Once
}

var _ machine.FrameSocket = (*subscription)(nil)

func (s *subscription) Hardware() endpoint.HardwareAddr {
	s.owner.shared.mu.Lock()
	defer s.owner.shared.mu.Unlock()
	return s.owner.hw
}

// Send implements machine.FrameSocket. The others hear the frame as one that this machine sent, which the socket itself does not show them.
func (s *subscription) Send(frame []byte) error {
	o := s.owner
	o.shared.mu.Lock()
	port := o.port
	o.shared.mu.Unlock()
	if err := port.Send(frame); err != nil {
		if errors.Is(err, net.ErrClosed) && !s.isClosed() {
			return machine.ErrGone // it is being opened anew
		}
		return err
	}
	o.hand(frame, time.Now(), s)
	return nil
}

func (s *subscription) isClosed() bool {
	select {
	case <-s.closed:
		return true
	default:
		return false
	}
}

// Receive implements machine.FrameSocket. It outlives the going and coming of the interface.
func (s *subscription) Receive() ([]byte, time.Time, error) {
	select {
	case <-s.closed:
		return nil, time.Time{}, net.ErrClosed
	default:
	}
	select {
	case h := <-s.frames:
		return h.frame, h.at, nil
	case <-s.closed:
		return nil, time.Time{}, net.ErrClosed
	}
}

// Close ends the subscription; the last one closes the socket.
func (s *subscription) Close() error {
	s.once.Do(func() {
		o := s.owner
		o.shared.mu.Lock()
		defer o.shared.mu.Unlock()
		close(s.closed)
		if delete(o.listening, s); len(o.listening) == 0 {
			close(o.ended)
			delete(o.shared.owned, o.key)
			o.port.Close()
		}
	})
	return nil
}
