// Package conductor owns what runs in a case: the tests, the witnesses that are watched, what listens on the segment, the kernel's
// notices. It alone adds to the case's log; what is known of the case is the state that follows from that.
package conductor

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"sync"
	"time"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/event"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/site"
	"passepartout/internal/core/state"
	"passepartout/internal/core/target"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/wording"
	"passepartout/internal/core/zone"
	"passepartout/internal/guard"
	"passepartout/internal/machine"
	"passepartout/internal/machine/shared"
	"passepartout/internal/nap"
	"passepartout/internal/probe/plan"
	"passepartout/internal/probe/watch"
)

// Config is a question to a machine.
type Config struct {
	Machine   machine.Machine
	Target    target.Target
	Interface string
	Families  evidence.Families
	Sheet     *site.Sheet
	Responder target.Target
	Answers   []evidence.Answer
	Deadline  time.Duration        // of one run of the tests
	Thorough  bool                 // tests go on after their verdict, until everything has been asked: for a screen
	Asleep    func() time.Duration // how long the machine has been suspended so far; nil: never
	// Log is given every event, one at a time, with the state after it, which it must not keep; it must not block. nil: nobody wants them
	Log func(e event.Event, after *state.State)
}

// Conductor is one case at work. Its methods may be called concurrently.
type Conductor struct {
	Config
	machine *shared.Machine
	ctx     context.Context
	end     context.CancelFunc
	wg      sync.WaitGroup
	wake    chan struct{} // something may have to be done
	hurry   chan struct{} // the target should be tried at once

	mu       sync.Mutex
	news     chan struct{} // holds a token when the state has changed
	state    state.State
	round    int
	running  *round
	began    time.Time // when tests were begun last
	wanted   string    // why tests are wanted at once; "" if they are not
	answers  []evidence.Answer
	before   []netip.Addr // the addresses of the target's name when it had any
	watcher  *watch.Watcher
	known    map[string]int      // the witnesses under watch, by what they are told apart by
	answered map[netip.Addr]bool // who has answered what the watch asked
	outages  map[time.Time]event.Outage
	told     map[string]event.Watched // of the witnesses; of whoever holds naming
	naming   sync.Mutex
	failed   error
	living   bool // it goes on after its first verdict
	hearing  *listening

	until  time.Time // when a single run of the tests is over at the latest; zero: no such bound
	voided int       // runs of the tests in a row that were void, since this machine stood still

	took time.Duration // by a trial of the target that worked; of the goroutine that tries it
}

// round is one run of the tests.
type round struct {
	number int
	cancel context.CancelFunc
	quit   bool // it was called off: what it leads to is nothing
	done   chan struct{}
}

// New prepares a case; nothing is asked before Start or Once.
func New(ctx context.Context, c Config) *Conductor {
	out := &Conductor{Config: c, wake: make(chan struct{}, 1), hurry: make(chan struct{}, 1), news: make(chan struct{}, 1),
		known: map[string]int{}, outages: map[time.Time]event.Outage{}, answered: map[netip.Addr]bool{}, told: map[string]event.Watched{}}
	out.answers = c.Answers
	out.ctx, out.end = context.WithCancel(ctx)
	out.machine = shared.New(c.Machine, out.gap)
	return out
}

// Machine is the case's machine, on which everybody shares one socket for frames for each interface.
func (c *Conductor) Machine() machine.Machine { return c.machine }

// State is what is known now. It is a value of its own: what comes later does not change it.
func (c *Conductor) State() state.State {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.state
}

// News holds a token when something has been added since it was taken out last.
func (c *Conductor) News() <-chan struct{} { return c.news }

// post adds an event to the log, and to the state.
func (c *Conductor) post(b event.Body) {
	c.mu.Lock()
	c.add(b)
	c.mu.Unlock()
}

// add is post for those who hold the lock.
func (c *Conductor) add(b event.Body) {
	if c.state.Stopped != "" {
		return
	}
	was := c.state.Verdict.Standing
	e := event.Event{At: time.Now(), Body: b}
	c.state = state.Fold(c.state, e)
	if c.Log != nil {
		c.Log(e, &c.state)
	}
	token(c.news)
	if now := c.state.Verdict.Standing; now != was {
		token(c.wake)
		if now == state.Doubtful {
			token(c.hurry)
		}
	}
}

func token(to chan struct{}) {
	select {
	case to <- struct{}{}:
	default:
	}
}

// Once runs the tests once, and returns what is known then. Nothing is watched afterwards.
func (c *Conductor) Once() (state.State, error) {
	defer c.Close()
	c.until = time.Now().Add(c.deadline())
	for because := "asked for"; because != ""; {
		r := c.begin(because)
		if r == nil {
			break
		}
		<-r.done
		c.mu.Lock()
		because, c.wanted = c.wanted, ""
		c.mu.Unlock()
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.state, c.failed
}

// Failed is why the tests could not be run; nil if they could.
func (c *Conductor) Failed() error {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.failed
}

// Start begins the case: the tests, and from their first verdict on all that keeps it true.
func (c *Conductor) Start() {
	c.living = true
	c.wg.Go(func() {
		defer guard.Goroutine()
		c.live()
	})
	c.wg.Go(func() {
		defer guard.Goroutine()
		c.followMachine()
	})
	c.wg.Go(func() {
		defer guard.Goroutine()
		c.followTarget()
	})
}

// Again has all tests run again, now.
func (c *Conductor) Again() { c.want("asked for") }

func (c *Conductor) want(because string) {
	c.mu.Lock()
	c.wanted = because
	c.mu.Unlock()
	token(c.wake)
}

// Say adds what a person has found out; without an answer, it takes an earlier one back. It counts at once.
func (c *Conductor) Say(s evidence.Answer) {
	c.mu.Lock()
	defer c.mu.Unlock()
	r := &c.state.Round
	c.add(event.Observed{Round: r.Number, What: s})
	c.answers = r.Set.Answers
	result := verdict.Judge(&r.Set)
	c.add(event.Judged{Round: r.Number, Settled: r.Settled, Over: r.Over, Elapsed: r.Set.Elapsed, Verdict: event.VerdictOf(result),
		Result: &result})
}

// Unsay takes back what a person has said.
func (c *Conductor) Unsay() {
	c.mu.Lock()
	c.answers = nil
	c.mu.Unlock()
}

// Watcher watches the witnesses, and whatever a person adds. It is nil before the first verdict.
func (c *Conductor) Watcher() *watch.Watcher {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.watcher
}

// Close ends everything that runs, and returns when it has ended.
func (c *Conductor) Close() { c.Stop("it was ended") }

// Acted takes note of a change of this machine that was made from here.
func (c *Conductor) Acted(a event.Acted) { c.post(a) }

// Note keeps in the case's log what the technician wrote down.
func (c *Conductor) Note(text string) { c.post(event.Noted{Text: text}) }

// Stop is Close with the reason that the log is to have.
func (c *Conductor) Stop(because string) {
	c.end()
	c.mu.Lock()
	e := c.hearing
	c.mu.Unlock()
	if e != nil {
		e.close()
	}
	c.wg.Wait()
	c.post(event.Stopped{Because: because})
}

// The pace of tests that are run again.
const (
	// Tests by themselves, at most: a network that is in trouble is not to be loaded with questions.
	againAfter = 5 * time.Second
	// After a notice, what belongs to it gets this long to come as well.
	quietFor = 300 * time.Millisecond
	// Where trying the target once does not show that a fault has gone, or become another, all tests are run again every so often, and more
	// rarely as time goes by.
	standingEvery, standingLong, standingRarely = 8 * time.Second, 3 * time.Minute, 30 * time.Second
)

// live begins tests whenever they are due.
func (c *Conductor) live() {
	c.begin("asked for")
	timer := time.NewTimer(time.Hour)
	defer timer.Stop()
	for {
		select {
		case <-c.ctx.Done():
			return
		case <-c.wake:
		case <-timer.C:
		}
		because, wait := c.due(time.Now())
		if because != "" {
			if c.begin(because) == nil {
				return
			}
			wait = time.Hour
		}
		timer.Reset(wait)
	}
}

// due says why tests are to be begun now, or else how long to wait until it is looked at again.
func (c *Conductor) due(now time.Time) (because string, wait time.Duration) {
	c.mu.Lock()
	defer c.mu.Unlock()
	v := &c.state.Verdict
	if c.wanted != "" {
		because, c.wanted = c.wanted, ""
		return because, 0
	}
	if c.state.Testing() {
		return "", time.Hour // its end wakes us
	}
	at := time.Time{}
	switch {
	case v.Standing == state.Doubtful || v.Standing == state.Outdated:
		because = v.Because
		at = c.began.Add(againAfter)
		if settled := c.state.At.Add(quietFor); v.Because != "" && lastChange(&c.state).Add(quietFor).After(at) && settled.After(at) {
			at = lastChange(&c.state).Add(quietFor)
		}
	case v.Standing == state.Current && v.Result.Zone != zone.None && (!c.state.TrialTells() || rests(v.Result)):
		because, at = "whether the fault still stands", c.began.Add(standingEvery)
		if now.Sub(v.Reached) > standingLong {
			at = c.began.Add(standingRarely)
		}
	default:
		return "", time.Hour
	}
	if left := at.Sub(now); left > 0 {
		return "", left
	}
	return because, 0
}

func lastChange(s *state.State) time.Time {
	if n := len(s.Changes); n > 0 {
		return s.Changes[n-1].At
	}
	return time.Time{}
}

func (c *Conductor) deadline() time.Duration {
	if c.Deadline <= 0 {
		return 10 * time.Second
	}
	return c.Deadline
}

// begin starts a run of the tests, in place of one that is under way. It is nil when the case has ended.
func (c *Conductor) begin(because string) *round {
	c.mu.Lock()
	old := c.running
	if old != nil {
		old.quit = true
		old.cancel()
	}
	c.mu.Unlock()
	if old != nil {
		<-old.done
	}
	if c.ctx.Err() != nil {
		return nil
	}
	until := c.until
	if until.IsZero() {
		until = time.Now().Add(c.deadline())
	}
	ctx, cancel := context.WithDeadline(c.ctx, until)
	c.mu.Lock()
	c.round++
	r := &round{number: c.round, cancel: cancel, done: make(chan struct{})}
	c.running, c.began = r, time.Now()
	given := c.answers
	if known, _ := c.state.Round.Set.TargetAddresses(); len(known) > 0 && c.Target.Name != "" {
		c.before = known
	}
	before := c.before
	c.mu.Unlock()
	c.wg.Go(func() {
		defer guard.Goroutine()
		defer close(r.done)
		defer cancel()
		c.run(ctx, r, because, given, before)
	})
	return r
}

func (c *Conductor) run(ctx context.Context, r *round, because string, given []evidence.Answer, before []netip.Addr) {
	judged := func(set *evidence.Set, result verdict.Result, over bool) {
		c.mu.Lock()
		defer c.mu.Unlock()
		if r.quit {
			return
		}
		if !slices.Equal(c.answers, set.Answers) { // said since the tests were begun
			with := *set
			with.Answers = c.answers
			result = verdict.Judge(&with)
		}
		settled := c.state.Round.Settled
		c.add(event.Judged{Round: r.number, Settled: result.Settled, Over: over, Elapsed: set.Elapsed, Verdict: event.VerdictOf(result),
			Result: &result})
		if c.living && (over || !settled && result.Settled) {
			token(c.wake)
			c.wg.Go(func() {
				defer guard.Goroutine()
				c.witness()
			})
		}
	}
	meter := nap.Measure(5 * time.Millisecond)
	defer meter.Stop()
	config := plan.Config{Machine: c.machine, Target: c.Target, Interface: c.Interface, Families: c.Families, Sheet: c.Sheet,
		Responder: c.Responder, Answers: given, Before: before, Thorough: c.Thorough, Chosen: c.listen, Log: &roundLog{c, r, because}}
	set, result, err := plan.Run(ctx, config,
		func(set *evidence.Set, result verdict.Result) { judged(set, result, false) })
	stood := meter.Worst()
	switch {
	case err != nil:
		c.mu.Lock()
		c.failed = err
		c.mu.Unlock()
		c.post(event.Ended{Round: r.number, Because: err.Error(), Failed: true})
	case c.calledOff(r):
		c.post(event.Ended{Round: r.number, Because: "called off"})
	case c.void(ctx, stood, set, result):
		because := fmt.Sprintf("this machine stood still for %s while it tested", wording.Millis(stood))
		c.post(event.Ended{Round: r.number, Because: because, Void: true})
		c.want(because)
	default:
		judged(set, result, true)
	}
}

// mostVoid is how many runs in a row may be void: on a machine that stands still all the time, what was measured has to do.
const mostVoid = 2

// void says whether what the tests found wrong is no evidence, since this machine itself stood still meanwhile, and whether there is time
// to run them again. That nothing is wrong is not found by standing still.
func (c *Conductor) void(ctx context.Context, stood time.Duration, set *evidence.Set, result verdict.Result) bool {
	wrong := result.Zone != zone.None || len(result.Also) > 0
	until, _ := ctx.Deadline()
	c.mu.Lock()
	defer c.mu.Unlock()
	if stood < nap.Stood || !wrong || c.voided == mostVoid || !c.living && time.Until(until) < set.Elapsed {
		c.voided = 0
		return false
	}
	c.voided++
	return true
}

func (c *Conductor) calledOff(r *round) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return r.quit || c.ctx.Err() != nil
}

// roundLog adds what happens in a run to the case's log.
type roundLog struct {
	c       *Conductor
	r       *round
	because string
}

func (l *roundLog) Begin(q evidence.Subject, e *endpoint.Endpoint, sheet *site.Sheet) {
	l.c.post(event.Began{Round: l.r.number, Because: l.because, Question: q, Endpoint: e, Sheet: sheet})
}

func (l *roundLog) Observe(o evidence.Observation) {
	l.c.post(event.Observed{Round: l.r.number, What: o})
}

func (l *roundLog) UnderWay(kinds []evidence.Kind) {
	l.c.post(event.UnderWay{Round: l.r.number, Kinds: kinds})
}
