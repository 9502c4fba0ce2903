// Package nap sleeps to within some ten microseconds, and measures how long this process had to wait for its turn. Go's own timers wait in
// whole milliseconds on an idle Linux machine (epoll_wait), which would add up along a simulated path.
package nap

import (
	"sync"
	"sync/atomic"
	"time"
)

// Until blocks until t. It cannot be interrupted: it is for delays of links.
func Until(t time.Time) {
	if d := time.Until(t); d > 0 {
		rest(d)
	}
}

// Stood is how long this machine may stand still before what it measured meanwhile is no evidence any more: probes were not sent, and
// answers not looked at, in time.
const Stood = 60 * time.Millisecond

// Meter measures how late this process gets its turn: another program has the processor, or the whole machine is halted.
type Meter struct {
	began        time.Time
	pace         time.Duration
	last         atomic.Int64 // when it last had its turn, after began
	worst, total atomic.Int64
	waited       atomic.Int64 // each wait by the time that it was part of, in µs²
	over         chan struct{}
	stop         sync.Once

	mu    sync.Mutex
	waits []turn // the last of them
}

// turn is one wait for a turn.
type turn struct {
	at   time.Duration // when it was over, after began
	late time.Duration
}

const (
	mostTurns = 512                  // that are remembered
	noLess    = 5 * time.Millisecond // what a timer may come late on an idle machine
)

// Measure begins to measure, that often, until Stop is called.
func Measure(pace time.Duration) *Meter {
	m := &Meter{began: time.Now(), pace: pace, over: make(chan struct{})}
	go m.run()
	return m
}

func (m *Meter) run() {
	tick := time.NewTicker(m.pace)
	defer tick.Stop()
	for {
		select {
		case <-m.over:
			return
		case <-tick.C:
		}
		m.remember(m.late())
		m.worst.Store(int64(m.Worst()))
		m.total.Store(int64(m.Total()))
		m.waited.Store(m.square())
		m.last.Store(int64(time.Since(m.began)))
	}
}

// late is how long its turn is overdue.
func (m *Meter) late() time.Duration {
	return time.Since(m.began) - time.Duration(m.last.Load()) - m.pace
}

// Worst is the longest time that this process had to wait for its turn.
func (m *Meter) Worst() time.Duration { return max(time.Duration(m.worst.Load()), m.late()) }

func (m *Meter) remember(late time.Duration) {
	if late < noLess {
		return
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	if len(m.waits) == mostTurns {
		m.waits = append(m.waits[:0], m.waits[mostTurns/2:]...)
	}
	m.waits = append(m.waits, turn{time.Since(m.began), late})
}

// Since is for how long this process waited for its turns from a moment on, all waits together that were longer than timers take.
func (m *Meter) Since(from time.Time) (all time.Duration) {
	if late := m.late(); late >= noLess {
		all = min(late, time.Since(from))
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, w := range m.waits {
		if after := w.at - from.Sub(m.began); after > 0 {
			all += min(w.late, after)
		}
	}
	return all
}

// Total is for how long it stood still, all times of more than Stood together.
func (m *Meter) Total() time.Duration {
	total := time.Duration(m.total.Load())
	if late := m.late(); late > Stood {
		total += late
	}
	return total
}

func (m *Meter) square() int64 {
	late := max(0, m.late())
	return m.waited.Load() + late.Microseconds()*(late+m.pace).Microseconds()
}

// Usual is how long this process has to wait for its turn, on the average over time: one long wait among many short ones is little of it.
func (m *Meter) Usual() time.Duration {
	square, all := m.square(), time.Since(m.began).Microseconds()
	return time.Duration(square/max(1, all)) * time.Microsecond
}

// Stop ends the measuring. It may be called again.
func (m *Meter) Stop() { m.stop.Do(func() { close(m.over) }) }
