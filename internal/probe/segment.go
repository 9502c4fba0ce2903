package probe

import (
	"context"
	"net/netip"
	"slices"
	"sync"
	"time"

	"passepartout/internal/core/dhcp"
	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/guard"
	"passepartout/internal/machine"
	"passepartout/internal/machine/wire"
	"passepartout/internal/nap"
)

// Segment listens to whole frames on one port and asks the segment in frames of its own: neighbours, address conflicts, DHCP.
type Segment struct {
	port machine.FrameSocket
	done chan struct{}

	mu      sync.Mutex
	claims  map[netip.Addr]*claim
	dhcp    map[int]func(*dhcp.Message, *wire.Frame) // who wants to know of DHCP messages
	frames  map[int]func(*wire.Frame, []byte)        // and who of everything
	nextKey int
	asked   func(netip.Addr) // somebody asks for this address
	heard   func(evidence.Heard)
	arrive  func(evidence.Arrival)
	ours    func(endpoint.HardwareAddr) bool // of the goroutine that receives
}

// ownHardware tells the hardware addresses of this machine's own interfaces. One that stands on the same segment as another answers for
// the other's addresses too, as every Linux does (arp(7): addresses belong to the machine, and not to an interface). They are read only
// when somebody claims an address of this machine, and at most once a second: a flood of claims must not make a reading each.
func ownHardware(m machine.Machine) func(endpoint.HardwareAddr) bool {
	const pause = time.Second
	var own []endpoint.HardwareAddr
	var read time.Time
	return func(hw endpoint.HardwareAddr) bool {
		if !slices.Contains(own, hw) && time.Since(read) > pause {
			read = time.Now()
			if all, err := m.Interfaces(context.Background()); err == nil {
				own = own[:0]
				for _, i := range all {
					if !i.Hardware.IsZero() {
						own = append(own, i.Hardware)
					}
				}
			}
		}
		return slices.Contains(own, hw)
	}
}

// claim is what was heard of one address.
type claim struct {
	hardware []endpoint.HardwareAddr
	changed  chan struct{} // closed at the next claim
}

// mostClaims bounds what a flood of ARP can fill.
const mostClaims = 8192

// OpenSegment begins to listen. heard is called for each machine's first word, arrive for each packet to this machine; both from one
// goroutine.
func OpenSegment(m machine.Machine, iface string, own func(netip.Addr) bool, heard func(evidence.Heard),
	arrive func(evidence.Arrival)) (*Segment, error) {
	port, err := m.OpenFrames(machine.FrameConfig{Interface: iface})
	if err != nil {
		return nil, err
	}
	s := &Segment{port: port, ours: ownHardware(m), done: make(chan struct{}), claims: map[netip.Addr]*claim{},
		dhcp:   map[int]func(*dhcp.Message, *wire.Frame){},
		frames: map[int]func(*wire.Frame, []byte){}, heard: heard, arrive: arrive}
	go func() {
		defer guard.Goroutine()
		s.receive(own)
	}()
	return s, nil
}

// Close ends the listening.
func (s *Segment) Close() {
	s.port.Close()
	<-s.done
}

func (s *Segment) receive(own func(netip.Addr) bool) {
	defer close(s.done)
	for {
		frame, _, err := s.port.Receive()
		if err != nil {
			return
		}
		f, ok := wire.ParseFrame(frame)
		if !ok {
			s.tellFrame(&f, frame)
			continue
		}
		if f.Claim.IsValid() && f.Hardware != s.port.Hardware() && !(own(f.Claim) && s.ours(f.Hardware)) {
			s.claimed(f.Claim, f.Hardware)
		}
		if f.Asks.IsValid() {
			s.mu.Lock()
			asked := s.asked
			s.mu.Unlock()
			if asked != nil {
				asked(f.Asks)
			}
		}
		if f.Proto == "udp" && (f.To.Port() == dhcp.ClientPort || f.To.Port() == dhcp.ServerPort) {
			s.tellDHCP(&f)
		}
		s.tellFrame(&f, frame)
		// not what goes to another holder of the address, nor what an older connection repeats
		if f.Proto == "tcp" && !wire.AnswersSYN(f.Segment) {
			continue
		}
		if f.From.IsValid() && own(f.To.Addr()) && f.Towards == s.port.Hardware() && s.arrive != nil {
			s.arrive(evidence.Arrival{From: f.From.Addr(), Proto: f.Proto, Port: f.From.Port()})
		}
	}
}

func (s *Segment) tellFrame(f *wire.Frame, frame []byte) {
	s.mu.Lock()
	var few [4]func(*wire.Frame, []byte)
	tell := few[:0]
	for _, each := range s.frames {
		tell = append(tell, each)
	}
	s.mu.Unlock()
	for _, each := range tell {
		each(f, frame)
	}
}

func (s *Segment) claimed(a netip.Addr, hw endpoint.HardwareAddr) {
	s.mu.Lock()
	c := s.claims[a]
	if c == nil {
		if len(s.claims) >= mostClaims {
			s.mu.Unlock()
			return
		}
		c = &claim{changed: make(chan struct{})}
		s.claims[a] = c
	}
	first := len(c.hardware) == 0
	if !slices.Contains(c.hardware, hw) && len(c.hardware) < 8 {
		c.hardware = append(c.hardware, hw)
	}
	close(c.changed)
	c.changed = make(chan struct{})
	s.mu.Unlock()
	if first && s.heard != nil {
		s.heard(evidence.Heard{Address: a, Hardware: hw})
	}
}

// next returns a channel that closes at the next claim to a.
func (s *Segment) next(a netip.Addr) <-chan struct{} {
	s.mu.Lock()
	defer s.mu.Unlock()
	c := s.claims[a]
	if c == nil {
		c = &claim{changed: make(chan struct{})}
		s.claims[a] = c
	}
	return c.changed
}

// Holders are the hardware addresses that have claimed an address so far.
func (s *Segment) Holders(a netip.Addr) []endpoint.HardwareAddr {
	s.mu.Lock()
	defer s.mu.Unlock()
	if c := s.claims[a]; c != nil {
		return slices.Clone(c.hardware)
	}
	return nil
}

// neighbourRepeats is when an unanswered request is sent again: three requests within the second, as a stack itself would send in three.
// The answer to the last is waited for until its asker ends.
var neighbourRepeats = []time.Duration{300 * time.Millisecond, 650 * time.Millisecond, time.Hour}

// neighbourWait is when a neighbour counts as silent.
const neighbourWait = time.Second

// Resolve asks which hardware address has target. sender is an own address on the segment, or zero for a probe that names none.
func (s *Segment) Resolve(ctx context.Context, sender, target netip.Addr) evidence.Neighbour {
	target = target.WithZone("")
	out := evidence.Neighbour{Asked: target, Method: "arp"}
	var frame []byte
	if target.Is6() {
		out.Method = "nd"
		if !sender.IsValid() {
			sender = netip.IPv6Unspecified()
		}
		frame = wire.NeighbourSolicitation(s.port.Hardware(), sender, target)
	} else {
		frame = wire.ARPRequest(s.port.Hardware(), sender, target)
	}
	ctx, cancel := nap.Within(ctx, neighbourWait)
	defer cancel()
	var sent time.Time
	out.Reply, out.Asks, sent = s.ask(ctx, target, frame)
	if out.Outcome == evidence.Answered {
		out.Hardware, out.RTT = s.Holders(target), time.Since(sent)
	}
	return out
}

// ask sends a question about an address, again and again, until somebody claims it or ctx ends. It tells how often that was, and when it
// was last; the round trip is counted from the first.
func (s *Segment) ask(ctx context.Context, address netip.Addr, frame []byte) (r evidence.Reply, asks int, sent time.Time) {
	answered := s.next(address)
	began := time.Now()
	for _, until := range neighbourRepeats {
		sent = time.Now()
		if err := s.port.Send(frame); err != nil {
			return machine.LocalError(err), asks, sent
		}
		asks++
		timer := time.NewTimer(until - time.Since(began))
		select {
		case <-answered:
			timer.Stop()
			return evidence.Reply{Outcome: evidence.Answered, From: address, RTT: time.Since(began)}, asks, sent
		case <-ctx.Done():
			timer.Stop()
			return evidence.Reply{Outcome: evidence.Silent, Waited: time.Since(began)}, asks, sent
		case <-timer.C:
		}
	}
	return r, asks, sent
}

// Conflict asks whether anybody else holds an address of ours, with a probe that puts no entry into anybody's table (RFC 5227 §2.1.1),
// and again while nobody has answered. ctx ends the wait: silence is the good answer.
func (s *Segment) Conflict(ctx context.Context, address netip.Addr) evidence.Conflict {
	out := evidence.Conflict{Address: address}
	out.Reply, _, _ = s.ask(ctx, address, wire.ARPRequest(s.port.Hardware(), netip.Addr{}, address))
	if holders := s.Holders(address); out.Outcome == evidence.Answered && len(holders) > 0 {
		out.Hardware = holders[0]
	}
	return out
}

// Sweep asks many addresses, at most rate a second, and calls done for each when it answers, or when patience is over; who answers after
// that, while others are still waited for, is told as well. It returns how many were asked to their end. enough ends it early.
func (s *Segment) Sweep(ctx context.Context, sender netip.Addr, targets []netip.Addr, rate int, patience time.Duration,
	done func(evidence.Neighbour), enough func() bool) int {
	tick := time.NewTicker(time.Second / time.Duration(rate))
	defer tick.Stop()
	var waiters, patient sync.WaitGroup
	over := make(chan struct{})
	defer waiters.Wait()
	defer func() { patient.Wait(); close(over) }()
	for i, target := range targets {
		if ctx.Err() != nil || enough() {
			return i
		}
		answered := s.next(target)
		sent := time.Now()
		if err := s.port.Send(wire.ARPRequest(s.port.Hardware(), sender, target)); err != nil {
			return i
		}
		patient.Add(1)
		waiters.Go(func() {
			defer guard.Goroutine()
			tell := func(r evidence.Reply) {
				n := evidence.Neighbour{Asked: target, Method: "arp", Asks: 1, Reply: r}
				if r.Outcome == evidence.Answered {
					n.Hardware, n.From, n.RTT = s.Holders(target), target, time.Since(sent)
				}
				done(n)
			}
			timer := time.NewTimer(patience)
			defer timer.Stop()
			var early bool
			select {
			case <-answered:
				early = true
			case <-timer.C:
			case <-ctx.Done():
			}
			patient.Done()
			switch {
			case early:
				tell(evidence.Reply{Outcome: evidence.Answered})
				return
			case ctx.Err() != nil:
				return
			}
			tell(evidence.Reply{Outcome: evidence.Silent, Waited: time.Since(sent)})
			select {
			case <-answered:
				tell(evidence.Reply{Outcome: evidence.Answered})
			case <-over:
			case <-ctx.Done():
			}
		})
		select {
		case <-tick.C:
		case <-ctx.Done():
			return i
		}
	}
	return len(targets)
}

// AskAllNodes asks every IPv6 machine of the segment for an echo, from a link-local or other address of this machine. Who answers is heard
// as a claim.
func (s *Segment) AskAllNodes(from netip.Addr) error {
	return s.port.Send(wire.AllNodesEcho(s.port.Hardware(), from))
}

// mostRest is the longest that Rest lasts.
const mostRest = 2 * time.Second

// Rest waits nine times as long as what began then has taken, so that what is repeated takes a tenth of a processor at most.
func Rest(ctx context.Context, began time.Time) { Sleep(ctx, min(9*time.Since(began), mostRest)) }

// Sleep waits; false if ctx ended first.
func Sleep(ctx context.Context, d time.Duration) bool {
	if d <= 0 {
		return ctx.Err() == nil
	}
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-t.C:
		return true
	case <-ctx.Done():
		return false
	}
}
