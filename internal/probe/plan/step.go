package plan

import (
	"context"
	"math"
	"net/netip"
	"slices"
	"sync"
	"time"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/facts"
	"passepartout/internal/core/target"
	"passepartout/internal/guard"
)

// step is a declared test: what it would know, when it makes sense, and how it asks. All steps are looked at once per change, over one set
// of facts; none of them watches anything by itself.
type step struct {
	test     string          // its name among verdict.Tests, of one that is made only in doubt; "" for a usual one
	brings   []evidence.Kind // what it would know; nil: nobody waits for it
	after    []evidence.Kind // what may still give it something to ask of: while any of that is open, so is what it brings
	most     int             // it asks of so many at most; 0: of all
	of       func(*moment) []subject
	needless func(*moment) bool // nil: never
	// until ends what is under way: when it has held for the grace. nil: it ends by itself.
	until func(*moment, subject) (over bool, grace time.Duration)
	ask   func(*run, context.Context, subject)
}

// subject is whom or what a step asks of. Each is asked of once.
type subject struct {
	addr, by netip.Addr
	port     uint16
	target   target.Target
	name     string // of a look-up, or a URL
	kind     string // of a look-up
	iface    string
}

// once is for a step that asks one thing.
func once(*moment) []subject { return []subject{{}} }

// when asks one thing as soon as a condition holds.
func when(holds func(*moment) bool) func(*moment) []subject {
	return func(m *moment) []subject {
		if holds(m) {
			return once(m)
		}
		return nil
	}
}

func each(addrs []netip.Addr) (out []subject) {
	for _, a := range addrs {
		out = append(out, subject{addr: a})
	}
	return out
}

// never is later than any run lasts.
const never = time.Duration(math.MaxInt64)

// moment is what is known when the plan is looked at.
type moment struct {
	*facts.Facts
	run  *run
	at   time.Duration // since the machine was read
	next time.Duration // when to look again, whatever happens
}

// past reports whether so much time has passed; if it has not, the plan is looked at again when it has.
func (m *moment) past(d time.Duration) bool {
	if m.at >= d {
		return true
	}
	m.next = min(m.next, d)
	return false
}

// ended reports whether a step has asked one of its subjects to the end.
func (m *moment) ended(s *step, of subject) bool { return m.run.progress[s].ended[of] }

// marked reports whether something has happened that is no evidence.
func (m *moment) marked(what mark) bool {
	m.run.lock.Lock()
	defer m.run.lock.Unlock()
	return m.run.marks[what]
}

// mark is something that happens while a question is under way and that is no evidence.
type mark struct {
	what string
	of   netip.Addr
}

// progress is how far a step has come.
type progress struct {
	begun, ended    map[subject]bool
	waits           bool          // for its time
	since           time.Duration // in doubt: since when there has been something to ask of
	chosen, dropped bool
}

// asking is a question under way.
type asking struct {
	step   *step
	of     subject
	cancel context.CancelFunc
	met    time.Duration // since when what ends it has held
}

// wait is a question under way that waits for something to be known.
type wait struct {
	holds func(*moment) bool
	held  chan struct{}
}

// board is the state of the plan. What stands below lock is shared with the questions; the rest belongs to whoever looks.
type board struct {
	steps    []*step
	started  time.Time
	progress map[*step]*progress
	underWay []*asking
	quiet    bool // the wait for silence is over
	looked   time.Duration
	doubted  time.Duration // when a test was chosen last

	lock  sync.Mutex
	over  []*asking
	waits []*wait
	marks map[mark]bool
}

func newBoard(steps []*step) *board {
	b := &board{steps: steps, progress: map[*step]*progress{}, marks: map[mark]bool{}, started: time.Now(), doubted: -doubtApart,
		looked: -doubtPace}
	for _, s := range append([]*step{naming}, steps...) {
		b.progress[s] = &progress{begun: map[subject]bool{}, ended: map[subject]bool{}, since: -1}
	}
	return b
}

// look takes in what has happened, begins what makes sense now and ends what does not any more. What is open belongs to what it gives.
func (r *run) look(ctx context.Context) *moment {
	r.lock.Lock()
	over := r.over
	r.over = nil
	waits := slices.Clone(r.waits)
	r.lock.Unlock()
	set := r.snapshot() // after what has ended: what that found was told before
	m := &moment{Facts: facts.New(set), run: r, at: time.Since(r.started), next: never}
	for _, a := range over {
		r.progress[a.step].ended[a.of] = true
		r.underWay = slices.DeleteFunc(r.underWay, func(b *asking) bool { return a == b })
	}
	r.endNeedless(m)
	r.tellWaiting(m, waits)
	for _, s := range r.steps {
		if s.test == "" || r.progress[s].chosen {
			r.advance(ctx, m, s)
		}
	}
	r.doubt(ctx, m)
	if open := r.open(m); r.setOpen(open) {
		now := *set // and nothing newer: what is open belongs to it
		now.Open = open
		m.Facts = facts.New(&now)
		r.wake() // what is no longer open may be what others wait for
	}
	return m
}

// advance begins a step with all that it can ask of now.
func (r *run) advance(ctx context.Context, m *moment, s *step) {
	p := r.progress[s]
	p.waits = false
	if s.needless != nil && s.needless(m) {
		return
	}
	next := m.next
	m.next = never
	subjects := s.of(m)
	p.waits = m.next != never
	m.next = min(m.next, next)
	for _, of := range subjects {
		if s.most > 0 && len(p.begun) >= s.most {
			break
		}
		r.begin(ctx, m, s, of)
	}
}

// begin asks a step's question of one subject, once.
func (r *run) begin(ctx context.Context, m *moment, s *step, of subject) {
	p := r.progress[s]
	if p.begun[of] {
		return
	}
	p.begun[of] = true
	ctx, cancel := context.WithCancel(ctx)
	a := &asking{step: s, of: of, cancel: cancel, met: -1}
	r.underWay = append(r.underWay, a)
	r.wg.Go(func() {
		defer guard.Goroutine()
		defer func() {
			cancel()
			r.lock.Lock()
			r.over = append(r.over, a)
			r.lock.Unlock()
			r.wake()
		}()
		s.ask(r, ctx, of)
	})
}

// endNeedless ends the questions under way whose answers are not waited for any longer.
func (r *run) endNeedless(m *moment) {
	for _, a := range r.underWay {
		if a.step.until == nil {
			continue
		}
		over, grace := a.step.until(m, a.of)
		switch {
		case !over:
			a.met = -1
		case a.met < 0:
			a.met = m.at
		}
		if over && m.past(a.met+grace+r.late(a.met)) {
			a.cancel()
		}
	}
}

// tellWaiting tells the questions under way what they wait for.
func (r *run) tellWaiting(m *moment, waits []*wait) {
	for _, w := range waits {
		if w.holds(m) {
			close(w.held)
			r.lock.Lock()
			r.waits = slices.DeleteFunc(r.waits, func(x *wait) bool { return x == w })
			r.lock.Unlock()
		}
	}
}

// onceThat gives what is closed once that something holds.
func (r *run) onceThat(holds func(*moment) bool) <-chan struct{} {
	w := &wait{holds, make(chan struct{})}
	r.lock.Lock()
	r.waits = append(r.waits, w)
	r.lock.Unlock()
	r.wake()
	return w.held
}

// waitUntil reports whether something came to hold before ctx ended.
func (r *run) waitUntil(ctx context.Context, holds func(*moment) bool) bool {
	select {
	case <-r.onceThat(holds):
		return true
	case <-ctx.Done():
		return false
	}
}

// mark notes something that is no evidence.
func (r *run) mark(what mark) {
	r.lock.Lock()
	r.marks[what] = true
	r.lock.Unlock()
	r.wake()
}

// busy reports whether any question is under way, or waits for its time, for which anybody waits.
func (r *run) busy() bool {
	return slices.ContainsFunc(r.underWay, func(a *asking) bool { return len(a.step.brings) > 0 }) ||
		slices.ContainsFunc(r.steps, func(s *step) bool { return r.progress[s].waits && len(s.brings) > 0 })
}

// open lists the kinds of which more may still come: what is under way, what waits for its time or its turn, and what any of these may
// give something to ask of.
func (r *run) open(m *moment) []evidence.Kind {
	var open [evidence.EndOfKinds]bool
	add := func(s *step) {
		for _, k := range s.brings {
			open[k] = true
		}
	}
	for _, a := range r.underWay {
		add(a.step)
	}
	var may []*step // what else may come to be asked
	for _, s := range r.steps {
		p := r.progress[s]
		switch {
		case p.dropped, s.most > 0 && len(p.begun) >= s.most, s.needless != nil && s.needless(m):
		case p.waits, s.test != "" && !p.chosen && p.since >= 0:
			add(s)
		case len(s.after) > 0:
			may = append(may, s)
		}
	}
	for more := true; more; {
		more = false
		may = slices.DeleteFunc(may, func(s *step) bool {
			is := slices.ContainsFunc(s.after, func(k evidence.Kind) bool { return open[k] })
			if is {
				add(s)
				more = true
			}
			return is
		})
	}
	var out []evidence.Kind
	for _, k := range evidence.Kinds() {
		if open[k] {
			out = append(out, k)
		}
	}
	return out
}
