package simulated

import (
	"fmt"
	"math/rand/v2"
	"sync"
	"time"

	"passepartout/internal/machine/wire"
	"passepartout/internal/nap"
	"passepartout/internal/scenario"
)

// segment is one link or local network: what a port sends, the others get, later or not at all. One goroutine delivers in order.
type segment struct {
	name       string
	acquainted bool                      // its machines know each other already
	treat      func() scenario.Treatment // at this moment
	lanes      [scenario.Lanes]chan delivery
	done       chan struct{}

	mu    sync.Mutex
	ports []*port
	rng   *rand.Rand
}

type delivery struct {
	due   time.Time
	from  *port
	frame []byte
}

// queueLength is more than any probe run has in flight; beyond it frames are lost, as on a switch.
const queueLength = 1024

func newSegment(s *scenario.Scenario, name string, began time.Time) *segment {
	g := &segment{name: name, done: make(chan struct{}), rng: rand.New(rand.NewPCG(1, 2))}
	if spec := s.Site.Segments[name]; spec.Switch != "" {
		go g.speak(spec)
	}
	g.treat = func() scenario.Treatment { return s.TreatmentAt(name, time.Since(began)) }
	for i := range g.lanes {
		if i > 0 && s.Site.Segments[name].Jitter == 0 {
			break
		}
		g.lanes[i] = make(chan delivery, queueLength)
		go g.deliver(g.lanes[i])
	}
	return g
}

// speakEvery is how often the switch tells its ports who it is: as often as a real one does for the first seconds (IEEE 802.1AB,
// txFastInit).
const speakEvery = time.Second

// speak tells every port of the segment by LLDP that it is a switch.
func (g *segment) speak(spec *scenario.Segment) {
	hw := scenario.SwitchHardware(g.name)
	tick := time.NewTicker(speakEvery)
	defer tick.Stop()
	for {
		select {
		case <-g.done:
			return
		case <-tick.C:
		}
		g.mu.Lock()
		ports := g.ports
		g.mu.Unlock()
		for i, p := range ports {
			if frame := wire.LLDPFrame(hw, spec.Switch, fmt.Sprintf("p%d", i+1), spec.VLAN); p.wants(frame) {
				p.receive(frame)
			}
		}
	}
}

func (g *segment) attach(p *port) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.ports = append(g.ports, p)
}

// send takes a frame over. A lost frame is a success to its sender.
func (g *segment) send(from *port, frame []byte) {
	t := g.treat()
	if len(frame) > t.MTU+ethernetHeader {
		return
	}
	if t.Loss > 0 {
		g.mu.Lock()
		lost := g.rng.Float64() < t.Loss
		g.mu.Unlock()
		if lost {
			return
		}
	}
	select {
	case g.lanes[t.Lane] <- delivery{due: time.Now().Add(t.Delay), from: from, frame: frame}:
	default:
	}
}

func (g *segment) deliver(lane <-chan delivery) {
	for {
		select {
		case <-g.done:
			return
		case d := <-lane:
			nap.Until(d.due)
			g.mu.Lock()
			ports := g.ports
			g.mu.Unlock()
			for _, p := range ports {
				if p != d.from && p.wants(d.frame) {
					p.receive(d.frame)
				}
			}
		}
	}
}
