package plan

import (
	"slices"
	"sync"
	"time"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/site"
)

// Log takes note of what happens in a run, in the order in which it happens. Its methods are called one at a time and must not block.
type Log interface {
	// Begin is called once, before anything is asked.
	Begin(q evidence.Subject, e *endpoint.Endpoint, sheet *site.Sheet)
	Observe(o evidence.Observation)
	// UnderWay tells of which kinds more may still come, whenever that has changed.
	UnderWay(kinds []evidence.Kind)
}

// collector gathers evidence from many goroutines. Snapshots share their slices with it: it only ever appends.
type collector struct {
	changed chan struct{} // holds a token when there is something new

	mu     sync.Mutex
	log    Log
	sealed bool
	set    evidence.Set
	open   map[evidence.Kind]int
	idle   map[evidence.Kind]int // of those that are open: what only waits for its turn, or for something to come up
	began  time.Time
}

func newCollector(log Log) *collector {
	return &collector{changed: make(chan struct{}, 1), log: log, open: map[evidence.Kind]int{}, idle: map[evidence.Kind]int{},
		began: time.Now()}
}

// ask notes the question and the machine to which it is put.
func (c *collector) ask(q evidence.Subject, e *endpoint.Endpoint, sheet *site.Sheet) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.set.Begin(q, e, sheet)
	if c.log != nil {
		c.log.Begin(q, e, sheet)
	}
	c.tellUnderWay() // what was expected before there was anybody to tell
}

// observe takes observations in.
func (c *collector) observe(list ...evidence.Observation) {
	c.observeIf(func(*evidence.Set) bool { return true }, list...)
}

// observeIf takes observations in if what is known so far allows it. What it refuses is nothing new.
func (c *collector) observeIf(wanted func(*evidence.Set) bool, list ...evidence.Observation) {
	c.mu.Lock()
	news := !c.sealed && len(list) > 0 && wanted(&c.set)
	if news {
		for _, o := range list {
			c.set.Take(o)
			if c.log != nil {
				c.log.Observe(o)
			}
		}
	}
	c.mu.Unlock()
	if news {
		c.wake()
	}
}

// seal gives the final snapshot: nothing that comes after it is taken in.
func (c *collector) seal() *evidence.Set {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.sealed, c.log = true, nil
	s := c.set
	s.Elapsed = time.Since(c.began)
	return &s
}

func (c *collector) wake() {
	select {
	case c.changed <- struct{}{}:
	default:
	}
}

// expect marks kinds as under way; the returned function takes the mark away, once.
func (c *collector) expect(kinds ...evidence.Kind) (done func()) {
	c.count(c.open, kinds, 1)
	return sync.OnceFunc(func() {
		c.count(c.open, kinds, -1)
		c.wake()
	})
}

// wait marks kinds as open of which nothing is under way yet: act tells that it now is, done takes the mark away.
func (c *collector) wait(kinds ...evidence.Kind) (act, done func()) {
	c.count(c.idle, kinds, 1)
	end := c.expect(kinds...)
	act = sync.OnceFunc(func() { c.count(c.idle, kinds, -1) })
	return act, func() { act(); end() }
}

func (c *collector) count(in map[evidence.Kind]int, kinds []evidence.Kind, n int) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, k := range kinds {
		in[k] += n
	}
	c.tellUnderWay()
}

// tellUnderWay brings the list of what is open up to date.
func (c *collector) tellUnderWay() {
	var open []evidence.Kind
	for _, k := range evidence.Kinds() {
		if c.open[k] > 0 {
			open = append(open, k)
		}
	}
	if slices.Equal(open, c.set.Open) {
		return
	}
	c.set.Open = open
	if c.log != nil && c.set.Endpoint != nil {
		c.log.UnderWay(open)
	}
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
	s.Elapsed = time.Since(c.began)
	return &s
}

// look reads the set without copying; f must not keep it.
func (c *collector) look(f func(*evidence.Set)) {
	c.mu.Lock()
	defer c.mu.Unlock()
	f(&c.set)
}
