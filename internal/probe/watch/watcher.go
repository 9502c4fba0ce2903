// Package watch probes many targets for as long as anybody looks, each at its own interval, and keeps what became of every probe. The
// witnesses of the zones are probed in step, so that a loss can be laid to the nearest one that was failing at that moment.
package watch

import (
	"context"
	"net/netip"
	"sync"
	"time"

	"passepartout/internal/core/blame"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/rtt"
	"passepartout/internal/core/series"
	"passepartout/internal/core/target"
	"passepartout/internal/core/zone"
	"passepartout/internal/guard"
	"passepartout/internal/machine"
	"passepartout/internal/nap"
	"passepartout/internal/probe"
)

// The bounds of what may be asked for, with their reasons.
const (
	ShortestInterval = 100 * time.Millisecond // below it, probing is a load of its own
	LongestInterval  = time.Minute            // above it, nothing is being watched
	LargestPayload   = 65507                  // what fits an IPv4 packet beside its headers
	MostTargets      = 2000                   // more would crowd any segment

	usualInterval = time.Second
	usualSize     = 48
)

// The bounds of the time-out, which follows the round trips seen: a floor for links that stall now and then, a ceiling for patience.
const (
	floor   = 300 * time.Millisecond
	ceiling = 2 * time.Second
)

// memory is how many probes all records together keep, 80 MiB; one record keeps up to series.Keep.
const memory = 4 << 20

// Method is how a target is asked.
type Method string

// The methods. Echo becomes a UDP datagram to an unused port where the system withholds echo.
const (
	Echo    Method = "icmp"
	Connect Method = "tcp" // a connection to the target's port, closed at once
)

// Spec is what should be asked, and how.
type Spec struct {
	Target       target.Target
	Label        string    // what it is called on screen; "" for the target as typed
	Zone         zone.Zone // for which it speaks
	Rank         int       // its place among the witnesses on the way; 0: it is none
	Method       Method    // "" is Echo
	Interval     time.Duration
	Size         int  // octets of payload; -1: none
	DontFragment bool // never in fragments
	Count        int  // 0: without end
	Families     evidence.Families
}

// Name is what the target is called.
func (s Spec) Name() string {
	if s.Label != "" {
		return s.Label
	}
	return s.Target.String()
}

func (s *Spec) complete() {
	if s.Interval == 0 {
		s.Interval = usualInterval
	}
	if s.Size == 0 {
		s.Size = usualSize
	}
	if s.Method == "" {
		s.Method = Echo
	}
}

// Octets is the size of the payload.
func (s Spec) Octets() int { return max(s.Size, 0) }

// Move is a name that was found to lead to another address.
type Move struct {
	At       time.Duration
	From, To netip.Addr
}

// Subject is one target under watch. What a reader gets from See is only valid within it.
type Subject struct {
	ID int
	Spec
	Address netip.Addr // zero: not known yet
	Trouble string     // why it is not being asked, in words; "" if it is
	Paused  bool
	Done    bool // its count is complete
	Since   time.Duration
	Record  *series.Record
	Moves   []Move
	Said    evidence.Reply // the last word that was no reply
	SaidAt  time.Duration

	failed     bool // its name was looked up in vain, and it never had an address
	generation int
	issued     int // probes sent or tried since the start or the last reset
	due        time.Duration
	estimate   rtt.Estimator
	place      int // in the schedule; -1: not in it
}

// Config is what a Watcher stands on.
type Config struct {
	Machine   machine.Machine
	Interface string
	// of the attribution; 0: a second
	Step time.Duration
	// how long the machine has been suspended so far; nil: never
	Asleep func() time.Duration
	// for how long this process did not get its turn so far; nil: it is measured
	Stood func() time.Duration
	// called for every probe that ended, one at a time; must not call back
	Ended func(s *Subject, r Result)
	// called for every probe sent: how long after it was due
	Late func(behind time.Duration)
	// nil: as the machine's settings have it
	Resolve func(context.Context, target.Target, evidence.Families) ([]netip.Addr, time.Duration, error)
}

// Result is the end of one probe, or what came after it.
type Result struct {
	Number int // from 0
	SentAt time.Time
	Method string
	Seq    uint16 // of the echo request on the wire
	Fate   series.Fate
	Again  bool // one more copy
	evidence.Reply
}

// Watcher watches. Its methods may be called concurrently.
type Watcher struct {
	Config
	Start  time.Time // where the axis begins
	echoer *probe.Echoer
	wake   chan struct{}
	ended  chan struct{}

	mu       sync.Mutex
	subjects []*Subject
	nextID   int
	schedule schedule
	waits    waits
	old      []forgotten
	slept    time.Duration
	own      *wait         // the last probe of this machine to itself
	late     time.Duration // by how much the answers to those came late, together
	spans    []blame.Span
	ledger   *blame.Ledger
}

// New starts a watcher, which ends with ctx; Wait waits for that.
func New(ctx context.Context, c Config) *Watcher {
	if c.Step == 0 {
		c.Step = time.Second
	}
	if c.Asleep == nil {
		c.Asleep = func() time.Duration { return 0 }
	}
	w := &Watcher{Config: c, Start: time.Now(), echoer: probe.NewEchoer(c.Machine, c.Interface), wake: make(chan struct{}, 1),
		ended: make(chan struct{}), ledger: blame.NewLedger(c.Step)}
	done := func() {}
	if w.Stood == nil {
		meter := nap.Measure(20 * time.Millisecond)
		w.Stood, done = meter.Total, meter.Stop
	}
	if w.Resolve == nil {
		w.Resolve = w.resolve
	}
	go func() {
		defer guard.Goroutine()
		defer done()
		w.run(ctx)
	}()
	go func() {
		defer guard.Goroutine()
		w.watchPorts(ctx)
	}()
	return w
}

// Wait returns when the watcher has ended.
func (w *Watcher) Wait() { <-w.ended }

// Now is the present place on the axis.
func (w *Watcher) Now() time.Duration {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.now()
}

func (w *Watcher) now() time.Duration { return time.Since(w.Start) + w.slept }

// Clock gives the time of day at a place on the axis.
func (w *Watcher) Clock(at time.Duration) time.Time { return w.Start.Add(at) }

// Add takes a target in and gives its number. It is false when there are too many.
func (w *Watcher) Add(s Spec) (id int, ok bool) {
	s.complete()
	w.mu.Lock()
	defer w.mu.Unlock()
	if len(w.subjects) >= MostTargets {
		return 0, false
	}
	w.nextID++
	x := &Subject{ID: w.nextID, Spec: s, Since: w.now(), place: -1, Record: series.New(w.keep())}
	w.subjects = append(w.subjects, x)
	w.find(x)
	return x.ID, true
}

// keep is how many probes a further record may keep.
func (w *Watcher) keep() int { return min(series.Keep, max(memory/(len(w.subjects)+1), 3600)) }

// find gives a subject its address, and its place in the schedule.
func (w *Watcher) find(x *Subject) {
	x.generation++
	if x.Target.Addr.IsValid() {
		x.Address, x.Trouble = x.Target.Addr, ""
		w.plan(x)
		return
	}
	x.Trouble = "looking its address up"
	w.lookUp(x)
}

func (w *Watcher) subject(id int) *Subject {
	for _, x := range w.subjects {
		if x.ID == id {
			return x
		}
	}
	return nil
}

// Change alters how a target is asked. What was found so far stays.
func (w *Watcher) Change(id int, f func(*Spec)) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if x := w.subject(id); x != nil {
		was := x.Spec
		f(&x.Spec)
		x.complete()
		if was.Target != x.Target || was.Families != x.Families {
			w.unplan(x)
			w.find(x)
			return
		}
		w.plan(x)
	}
}

// Rename calls a target otherwise.
func (w *Watcher) Rename(id int, label string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if x := w.subject(id); x != nil {
		x.Label = label
	}
}

// Rank gives a target another place among the witnesses.
func (w *Watcher) Rank(id int, z zone.Zone, rank int) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if x := w.subject(id); x != nil {
		x.Zone, x.Spec.Rank = z, rank
	}
}

// Pause stops asking a target, or goes on.
func (w *Watcher) Pause(id int, paused bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if x := w.subject(id); x != nil {
		x.Paused = paused
		w.plan(x)
	}
}

// Reset forgets what was found of a target.
func (w *Watcher) Reset(id int) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if x := w.subject(id); x != nil {
		x.Record.Reset()
		x.Moves, x.Said, x.estimate, x.Since, x.issued, x.Done = nil, evidence.Reply{}, rtt.Estimator{}, w.now(), 0, false
		w.plan(x)
	}
}

// ResetAll forgets everything that was found, outages as well.
func (w *Watcher) ResetAll() {
	w.mu.Lock()
	ids := make([]int, len(w.subjects))
	for i, x := range w.subjects {
		ids[i] = x.ID
	}
	w.spans = nil
	w.ledger.Reset(w.now())
	w.mu.Unlock()
	for _, id := range ids {
		w.Reset(id)
	}
}

// Remove gives a target up.
func (w *Watcher) Remove(id int) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for i, x := range w.subjects {
		if x.ID == id {
			w.unplan(x)
			x.generation++
			w.subjects = append(w.subjects[:i:i], w.subjects[i+1:]...)
			return
		}
	}
}

// See shows f everything under the lock; f must not keep or change it, nor block. The ledger is brought up to date first.
func (w *Watcher) See(f func(now time.Duration, subjects []*Subject, ledger *blame.Ledger)) {
	w.mu.Lock()
	defer w.mu.Unlock()
	now := w.now()
	w.attribute(now)
	f(now, w.subjects, w.ledger)
}

// attribute lays the intervals that are over to their zones.
func (w *Watcher) attribute(now time.Duration) {
	upTo := now - floor
	var witnesses []blame.Witness
	for _, x := range w.subjects {
		if x.Rank > 0 {
			witnesses = append(witnesses, blame.Witness{Name: x.Name(), Zone: x.Zone, Rank: x.Rank, Record: x.Record})
		}
	}
	for _, p := range w.waits {
		if p.subject.Rank > 0 {
			upTo = min(upTo, p.sent)
		}
	}
	w.ledger.Update(witnesses, w.spans, upTo)
}

// Finished reports whether every target's count is complete, with nothing under way.
func (w *Watcher) Finished() bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, x := range w.subjects {
		if !x.Done && !x.failed {
			return false
		}
	}
	return !w.waiting()
}

// Stop sends no more; what is under way still comes to its end.
func (w *Watcher) Stop() {
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, x := range w.subjects {
		w.unplan(x)
		x.Done = true
	}
}

// Waiting reports whether probes are under way.
func (w *Watcher) Waiting() bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.waiting()
}

func (w *Watcher) waiting() bool {
	for _, x := range w.subjects {
		if x.Record.Counts().Pending > 0 {
			return true
		}
	}
	return false
}
