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
	began  time.Time
}

func newCollector(log Log) *collector {
	return &collector{changed: make(chan struct{}, 1), log: log, began: time.Now()}
}

// ask notes the question and the machine to which it is put.
func (c *collector) ask(q evidence.Subject, e *endpoint.Endpoint, sheet *site.Sheet) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.set.Begin(q, e, sheet)
	if c.log != nil {
		c.log.Begin(q, e, sheet)
	}
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

// setOpen says of which kinds more may still come, and reports whether that has changed.
func (c *collector) setOpen(kinds []evidence.Kind) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	if slices.Equal(kinds, c.set.Open) {
		return false
	}
	c.set.Open = kinds
	if c.log != nil {
		c.log.UnderWay(kinds)
	}
	return true
}

func (c *collector) snapshot() *evidence.Set {
	c.mu.Lock()
	defer c.mu.Unlock()
	s := c.set
	s.Elapsed = time.Since(c.began)
	return &s
}
