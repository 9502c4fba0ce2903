package probe

import (
	"context"
	"net/netip"
	"slices"
	"sync"
	"time"

	"github.com/miekg/dns"

	"passepartout/internal/core/evidence"
	"passepartout/internal/guard"
	"passepartout/internal/machine"
	"passepartout/internal/nap"
)

// BurstQuestion is a number of small probes to one address.
type BurstQuestion struct {
	To     netip.Addr
	Count  int
	Apart  time.Duration
	Enough <-chan struct{}                           // when closed, nobody will answer: the wait is over; nil: never
	Grace  func(slowest time.Duration) time.Duration // how long after the last probe, when some were answered
}

// collected is what has come back so far.
type collected struct {
	mu     sync.Mutex
	rtts   map[int]time.Duration
	unsent int // what this machine did not send is no loss
	came   chan struct{}
	turns  *nap.Meter
}

// collect begins to wait for answers. Whoever calls it ends the measuring of turns.
func collect() *collected {
	return &collected{rtts: map[int]time.Duration{}, came: make(chan struct{}, 1), turns: nap.Measure(10 * time.Millisecond)}
}

// notSent notes that a probe was not sent, or that its answer cannot be heard any more.
func (c *collected) notSent(n int) {
	c.mu.Lock()
	if _, came := c.rtts[n]; !came {
		c.unsent++
	}
	c.mu.Unlock()
	c.wake()
}

func (c *collected) add(n int, rtt time.Duration) {
	c.mu.Lock()
	if _, twice := c.rtts[n]; !twice {
		c.rtts[n] = rtt
	}
	c.mu.Unlock()
	c.wake()
}

// wake has whoever waits look again.
func (c *collected) wake() {
	select {
	case c.came <- struct{}{}:
	default:
	}
}

func (c *collected) state() (n int, slowest time.Duration) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, d := range c.rtts {
		slowest = max(slowest, d)
	}
	return len(c.rtts) + c.unsent, slowest
}

// noAnswer is how long is waited for a first answer at all: a neighbour's hardware address may have to be found first.
const noAnswer = 1500 * time.Millisecond

// wait returns when all have come, nobody will, or the grace after the last is over. It is false when ctx ended first.
func (c *collected) wait(ctx context.Context, q BurstQuestion, lastSent time.Time) bool {
	for {
		n, slowest := c.state()
		left := time.Until(lastSent.Add(noAnswer))
		if n > 0 {
			left = time.Until(lastSent.Add(q.Grace(slowest)))
		}
		left += min(c.turns.Since(lastSent), noAnswer)
		if n >= q.Count || left <= 0 {
			return true
		}
		timer := time.NewTimer(left)
		select {
		case <-c.came:
		case <-timer.C:
		case <-q.Enough:
			if n, _ := c.state(); n == 0 {
				timer.Stop()
				return true
			}
			q.Enough = nil
		case <-ctx.Done():
			timer.Stop()
			return false
		}
		timer.Stop()
	}
}

func (c *collected) burst(q BurstQuestion, method string) evidence.Burst {
	c.mu.Lock()
	defer c.mu.Unlock()
	b := evidence.Burst{To: q.To.WithZone(""), Method: method, Sent: q.Count - c.unsent, Received: len(c.rtts),
		Late: c.turns.Usual()}
	var sorted []time.Duration
	for _, d := range c.rtts {
		sorted = append(sorted, d)
	}
	slices.Sort(sorted)
	if len(sorted) > 0 {
		b.Median = sorted[len(sorted)/2]
	}
	return b
}

// pace keeps probes apart: on the dot while this machine keeps up, and never closer than three quarters of it after a stall, since probes
// sent in one lump see one moment only.
type pace struct {
	apart     time.Duration
	due, last time.Time
}

func newPace(apart time.Duration) *pace { return &pace{apart: apart} }

func (p *pace) next(ctx context.Context) bool {
	if p.last.IsZero() {
		p.due = time.Now()
	} else {
		p.due = p.due.Add(p.apart)
		if least := p.last.Add(p.apart * 3 / 4); p.due.Before(least) {
			p.due = least
		}
		if !Sleep(ctx, time.Until(p.due)) {
			return false
		}
	}
	p.last = time.Now()
	return true
}

// EchoBurst sends echo requests one after the other. It is false when ctx ended first, or the machine did not send.
func EchoBurst(ctx context.Context, e *Echoer, q BurstQuestion) (evidence.Burst, bool) {
	c := collect()
	defer c.turns.Stop()
	var tickets []Ticket
	defer func() {
		for _, t := range tickets {
			t.Forget()
		}
	}()
	pace := newPace(q.Apart)
	for range q.Count {
		if !pace.next(ctx) {
			return evidence.Burst{}, false
		}
		n := len(tickets)
		t, err := e.Send(EchoQuestion{To: q.To, Size: 24}, func(r evidence.Reply) {
			switch r.Outcome {
			case evidence.Answered:
				c.add(n, r.RTT)
			case evidence.LocalError:
				c.notSent(n)
			}
		})
		if err != nil {
			return evidence.Burst{}, false
		}
		tickets = append(tickets, t)
	}
	ok := c.wait(ctx, q, time.Now())
	return c.burst(q, "icmp"), ok
}

// synRepeat is when an attempt to connect that was not answered is repeated by the system (RFC 6298 §2.1): what is answered after that was
// lost at first.
const synRepeat = 950 * time.Millisecond

// ConnectBurst opens connections to a service one after the other, and closes each at once. A refusal counts as an answer.
func ConnectBurst(ctx context.Context, m machine.Machine, port uint16, q BurstQuestion) (evidence.Burst, bool) {
	ctx, cancel := context.WithCancel(ctx)
	var wg sync.WaitGroup
	defer wg.Wait()
	defer cancel()
	c := collect()
	defer c.turns.Stop()
	pace := newPace(q.Apart)
	for n := range q.Count {
		if !pace.next(ctx) {
			return evidence.Burst{}, false
		}
		wg.Go(func() {
			defer guard.Goroutine()
			conn, r := m.Connect(ctx, machine.ConnectConfig{To: netip.AddrPortFrom(q.To, port)})
			if r.Outcome == evidence.Answered {
				conn.Close()
			}
			switch {
			case r.Outcome == evidence.LocalError:
				c.notSent(n)
			case (r.Outcome == evidence.Answered || r.Outcome == evidence.Refused) && r.RTT < synRepeat:
				c.add(n, r.RTT)
			}
		})
	}
	ok := c.wait(ctx, q, time.Now())
	return c.burst(q, evidence.ByConnections), ok
}

// mostFailures is how often a socket may fail to give what has arrived before it is given up.
const mostFailures = 16

// NameBurst asks a name server about itself, one question after the other: where echo is withheld its answers tell of loss and delay as
// well.
func NameBurst(ctx context.Context, m machine.Machine, q BurstQuestion) (evidence.Burst, bool) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	port, err := m.OpenDatagram(machine.DatagramConfig{To: netip.AddrPortFrom(q.To, 53)})
	if err != nil {
		return evidence.Burst{}, false
	}
	defer port.Close()
	c := collect()
	defer c.turns.Stop()
	var mu sync.Mutex
	sent := map[uint16]int{}
	at := make([]time.Time, q.Count)
	go func() {
		defer guard.Goroutine()
		for failed := 0; failed < mostFailures; {
			payload, a, err := port.Receive(ctx)
			if err != nil {
				if ctx.Err() != nil {
					return
				}
				failed++ // the answers that are on their way may still be had
				continue
			}
			answer := new(dns.Msg)
			if a.Outcome != evidence.Answered || answer.Unpack(payload) != nil {
				continue
			}
			mu.Lock()
			n, ours := sent[answer.Id]
			mu.Unlock()
			if ours {
				c.add(n, reply(a, at[n]).RTT)
			}
		}
	}()
	pace := newPace(q.Apart)
	first := dns.Id()
	for n := range q.Count {
		if !pace.next(ctx) {
			return evidence.Burst{}, false
		}
		question := lifeQuestion()
		question.Id = first + uint16(n) // two alike would pass for a loss
		packed, err := question.Pack()
		if err != nil {
			return evidence.Burst{}, false
		}
		mu.Lock()
		sent[question.Id] = n
		began, err := port.Send(packed)
		at[n] = began
		mu.Unlock()
		if err != nil {
			return evidence.Burst{}, false
		}
	}
	ok := c.wait(ctx, q, time.Now())
	return c.burst(q, "dns"), ok
}
