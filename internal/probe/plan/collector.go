package plan

import (
	"sync"
	"time"

	"passepartout/internal/core/evidence"
)

// collector gathers evidence from many goroutines. Snapshots share their slices with it: it only ever appends.
type collector struct {
	changed chan struct{} // holds a token when there is something new

	mu    sync.Mutex
	set   evidence.Set
	open  map[evidence.Kind]int
	idle  map[evidence.Kind]int // of those that are open: what only waits for its turn, or for something to come up
	began time.Time
}

func newCollector() *collector {
	return &collector{changed: make(chan struct{}, 1), open: map[evidence.Kind]int{}, idle: map[evidence.Kind]int{}, began: time.Now()}
}

// add changes the set under the lock.
func (c *collector) add(f func(*evidence.Set)) {
	c.mu.Lock()
	f(&c.set)
	c.mu.Unlock()
	c.wake()
}

func (c *collector) wake() {
	select {
	case c.changed <- struct{}{}:
	default:
	}
}

// expect marks kinds as under way; the returned function takes the mark away, once.
func (c *collector) expect(kinds ...evidence.Kind) (done func()) {
	c.mu.Lock()
	for _, k := range kinds {
		c.open[k]++
	}
	c.mu.Unlock()
	return sync.OnceFunc(func() {
		c.mu.Lock()
		for _, k := range kinds {
			c.open[k]--
		}
		c.mu.Unlock()
		c.wake()
	})
}

// wait marks kinds as open of which nothing is under way yet: act tells that it now is, done takes the mark away.
func (c *collector) wait(kinds ...evidence.Kind) (act, done func()) {
	count := func(n int) {
		c.mu.Lock()
		for _, k := range kinds {
			c.idle[k] += n
		}
		c.mu.Unlock()
	}
	count(1)
	end := c.expect(kinds...)
	act = sync.OnceFunc(func() { count(-1) })
	return act, func() { act(); end() }
}

// busy reports whether anything is under way, besides what only waits.
func (c *collector) busy() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	for k, n := range c.open {
		if n > c.idle[k] {
			return true
		}
	}
	return false
}

func (c *collector) snapshot() *evidence.Set {
	c.mu.Lock()
	defer c.mu.Unlock()
	s := c.set
	s.Open = nil
	for _, k := range evidence.Kinds() {
		if c.open[k] > 0 {
			s.Open = append(s.Open, k)
		}
	}
	s.Elapsed = time.Since(c.began)
	return &s
}

// look reads the set without copying; f must not keep it.
func (c *collector) look(f func(*evidence.Set)) {
	c.mu.Lock()
	defer c.mu.Unlock()
	f(&c.set)
}
