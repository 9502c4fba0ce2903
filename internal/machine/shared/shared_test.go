package shared_test

import (
	"errors"
	"net"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/machine"
	"passepartout/internal/machine/shared"
)

// wired is a machine with one interface whose sockets the test holds in its hands.
type wired struct {
	machine.Machine
	mu     sync.Mutex
	opened int
	socket *socket // the latest
	broken error   // that opening gives
}

var own = endpoint.HardwareAddr{2, 0, 0, 0, 0, 1}

func (w *wired) OpenFrames(c machine.FrameConfig) (machine.FrameSocket, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.broken != nil {
		return nil, w.broken
	}
	w.opened++
	w.socket = &socket{in: make(chan []byte, 16), fails: make(chan error, 1), closed: make(chan struct{})}
	return w.socket, nil
}

func (w *wired) now() (*socket, int) {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.socket, w.opened
}

func (w *wired) breaks(err error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.broken = err
}

type socket struct {
	in     chan []byte
	fails  chan error
	closed chan struct{}
	once   sync.Once
}

func (s *socket) Hardware() endpoint.HardwareAddr { return own }
func (s *socket) Send([]byte) error               { return nil }
func (s *socket) Close() error                    { s.once.Do(func() { close(s.closed) }); return nil }
func (s *socket) Receive() ([]byte, time.Time, error) {
	select {
	case f := <-s.in:
		return f, time.Now(), nil
	case err := <-s.fails:
		return nil, time.Time{}, err
	case <-s.closed:
		return nil, time.Time{}, net.ErrClosed
	}
}

func frame(from endpoint.HardwareAddr, text string) []byte {
	return append(append(append([]byte{255, 255, 255, 255, 255, 255}, from[:]...), 8, 0), text...)
}

func hears(t *testing.T, p machine.FrameSocket, want string) {
	t.Helper()
	got := make(chan string, 1)
	go func() {
		f, _, err := p.Receive()
		if err != nil {
			f = []byte("              " + err.Error())
		}
		got <- string(f[14:])
	}()
	select {
	case text := <-got:
		assert.Equal(t, want, text)
	case <-time.After(5 * time.Second):
		t.Fatalf("%q was not heard", want)
	}
}

var other = endpoint.HardwareAddr{2, 0, 0, 0, 0, 9}

func TestOneSocketForAll(t *testing.T) {
	w := &wired{}
	m := shared.New(w, nil)
	open := func(c machine.FrameConfig) machine.FrameSocket {
		p, err := m.OpenFrames(c)
		require.NoError(t, err)
		return p
	}
	a, b := open(machine.FrameConfig{Interface: "eth0"}), open(machine.FrameConfig{Interface: "eth0", Own: true})
	s, opened := w.now()
	assert.Equal(t, 1, opened, "one owner of the socket")
	s.in <- frame(other, "from a neighbour")
	hears(t, a, "from a neighbour")
	hears(t, b, "from a neighbour")
	require.NoError(t, a.Send(frame(own, "a question")))
	hears(t, b, "a question") // the others hear it, if they want this machine's own
	s.in <- frame(own, "by another program")
	s.in <- frame(other, "an answer")
	hears(t, a, "an answer")
	hears(t, b, "by another program")
	require.NoError(t, a.Close())
	_, _, err := a.Receive()
	assert.ErrorIs(t, err, net.ErrClosed)
	assert.ErrorIs(t, a.Send(nil), nil, "the socket is the others' still")
	require.NoError(t, b.Close())
	require.NoError(t, b.Close(), "twice does no harm")
	select {
	case <-s.closed:
	case <-time.After(5 * time.Second):
		t.Fatal("the socket outlives its last listener")
	}
	c := open(machine.FrameConfig{Interface: "eth0"})
	_, opened = w.now()
	assert.Equal(t, 2, opened, "and is opened anew for the next")
	c.Close()
}

// An interface that goes and comes back is heard again, by those who listened before, and the time between is told.
func TestComesBackWithTheInterface(t *testing.T) {
	w := &wired{}
	gaps := make(chan shared.Gap, 8)
	m := shared.New(w, func(g shared.Gap) { gaps <- g })
	p, err := m.OpenFrames(machine.FrameConfig{Interface: "eth0"})
	require.NoError(t, err)
	defer p.Close()
	s, _ := w.now()
	w.breaks(machine.ErrGone)
	s.fails <- errors.New("network is down")
	g := <-gaps
	assert.Equal(t, "network is down", g.Why)
	assert.True(t, g.To.IsZero(), "it has begun")
	time.Sleep(600 * time.Millisecond) // it is tried meanwhile, in vain
	w.breaks(nil)
	g = <-gaps
	assert.False(t, g.To.IsZero(), "it is over")
	s, opened := w.now()
	assert.Equal(t, 2, opened)
	s.in <- frame(other, "back again")
	hears(t, p, "back again")
}
