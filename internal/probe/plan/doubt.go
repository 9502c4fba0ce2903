package plan

import (
	"context"
	"time"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/facts"
	"passepartout/internal/core/fault"
	"passepartout/internal/core/verdict"
)

// The times of the tests that are made only in doubt.
const (
	// By then a gateway that is there and passes traffic on has shown it, and most targets that work have answered.
	doubtAfter = 350 * time.Millisecond
	doubtPace  = 40 * time.Millisecond // to look at the suspects more often would be waste
	// The next test begins when the one before has ended, or after this: it may be what settles the matter.
	doubtApart = 120 * time.Millisecond
)

// works reports whether the target has shown that it works.
func works(m *moment) bool { return m.Usable() == facts.Yes }

// doubt makes the tests that are in doubt one by one: always the one on which the suspects that are left differ most. One on which they do
// not differ is not made, and when nothing more will come that could make one of them tell, they are dropped.
func (r *run) doubt(ctx context.Context, m *moment) {
	idle := !r.busy()
	var due, waiting []*step
	under := false // the test that was chosen last is under way
	for _, s := range r.steps {
		p := r.progress[s]
		if s.test == "" || p.dropped {
			continue
		}
		if p.chosen {
			under = under || r.asks(s)
			continue
		}
		if p.dropped = s.needless(m); p.dropped {
			continue
		}
		waiting = append(waiting, s)
		if len(s.of(m)) == 0 {
			continue
		}
		if p.since < 0 {
			p.since = m.at
		}
		if idle || m.past(p.since+doubtAfter) {
			due = append(due, s)
		}
	}
	if len(waiting) == 0 || !idle && (len(due) == 0 || !m.past(r.looked+doubtPace) || under && !m.past(r.doubted+doubtApart)) {
		return
	}
	r.looked = m.at
	if !r.choose(ctx, m, due) && idle {
		for _, s := range waiting {
			r.progress[s].dropped = true
		}
	}
}

// choose begins the test on which the suspects differ most; false if they differ on none.
func (r *run) choose(ctx context.Context, m *moment, due []*step) bool {
	var names []string
	for _, s := range due {
		names = append(names, s.test)
	}
	test, between, ok := verdict.Of(m.Facts).Choose(names)
	if !ok {
		return false
	}
	r.observe(evidence.Chosen{Test: test.ID, Between: fault.Texts(between)})
	r.doubted = m.at
	for _, s := range due {
		if s.test == test.ID {
			r.progress[s].chosen = true
			r.advance(ctx, m, s)
		}
	}
	return true
}

// asks reports whether a step's question is under way.
func (r *run) asks(s *step) bool {
	for _, a := range r.underWay {
		if a.step == s {
			return true
		}
	}
	return false
}
