package probe

import (
	"slices"
	"sync"
	"time"

	"passepartout/internal/core/dhcp"
	"passepartout/internal/guard"
	"passepartout/internal/machine"
	"passepartout/internal/machine/wire"
)

// DHCPListener listens to the DHCP messages on a port, this machine's own among them, and puts them together into exchanges. It sends
// nothing. What a switch does not bring to this port, it cannot hear: unicast messages of others.
type DHCPListener struct {
	Since time.Time
	port  machine.FrameSocket
	done  chan struct{}

	heard func(dhcp.Sighting)

	mu      sync.Mutex
	tracker *dhcp.Tracker
	ended   []*dhcp.Exchange
	counts  [dhcp.Inform + 1]int
}

// mostHeard is how many exchanges that have ended are kept: the latest.
const mostHeard = 512

// ListenDHCP begins to listen. heard, if not nil, is called for each message but this program's own questions, from the listening
// goroutine.
func ListenDHCP(m machine.Machine, iface string, heard func(dhcp.Sighting)) (*DHCPListener, error) {
	port, err := m.OpenFrames(machine.FrameConfig{Interface: iface, Own: true, Only: machine.OnlyDHCP})
	if err != nil {
		return nil, err
	}
	e := &DHCPListener{Since: time.Now(), port: port, done: make(chan struct{}), heard: heard}
	e.tracker = dhcp.NewTracker(dhcp.Config{Most: 1024, Ended: func(x *dhcp.Exchange) {
		if len(e.ended) == mostHeard {
			e.ended = slices.Delete(e.ended, 0, 1)
		}
		e.ended = append(e.ended, x)
	}})
	go func() {
		defer guard.Goroutine()
		e.hear()
	}()
	return e, nil
}

func (e *DHCPListener) hear() {
	defer close(e.done)
	for {
		frame, at, err := e.port.Receive()
		if err != nil {
			return
		}
		f, ok := wire.ParseFrame(frame)
		if !ok || f.Proto != "udp" {
			continue
		}
		m, err := wire.ParseDHCP(f.Payload)
		if err != nil || m.Type == 0 {
			continue
		}
		s := dhcp.Sighting{At: at, From: f.From, To: f.To, Message: m}
		ours := dhcp.IsProbe(m.Client, m.XID)
		e.mu.Lock()
		e.tracker.Take(s)
		if !ours && int(m.Type) < len(e.counts) {
			e.counts[m.Type]++
		}
		e.mu.Unlock()
		if e.heard != nil && (m.Reply || !ours) {
			e.heard(s)
		}
	}
}

// Close ends the listening.
func (e *DHCPListener) Close() {
	e.port.Close()
	<-e.done
}

// Exchanges are those heard so far, the one that began last first, and how many messages of each type there were, this program's own left
// out.
func (e *DHCPListener) Exchanges() (out []*dhcp.Exchange, counts [dhcp.Inform + 1]int) {
	e.mu.Lock()
	defer e.mu.Unlock()
	out = append(e.tracker.Open(), e.ended...)
	slices.SortStableFunc(out, func(a, b *dhcp.Exchange) int { return b.Began().Compare(a.Began()) })
	return out, e.counts
}
