package plan

import (
	"context"
	"slices"
	"time"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/facts"
	"passepartout/internal/core/fault"
	"passepartout/internal/core/verdict"
	"passepartout/internal/probe"
)

// The times of the tests that are made only in doubt.
const (
	// By then a gateway that is there and passes traffic on has shown it, and most targets that work have answered.
	doubtAfter = 350 * time.Millisecond
	doubtPace  = 40 * time.Millisecond
	// The next test begins when the one before has ended, or after this: it may be what settles the matter.
	doubtApart = 120 * time.Millisecond
)

// doubt is a further test that waits for its turn.
type doubt struct {
	test     string // of verdict.Tests
	since    time.Time
	needless func(*evidence.Set) bool // nothing is in doubt any more
	ready    func(*evidence.Set) bool // nil: at once
	act      func()                   // its evidence is under way from now on
	run      func()
	done     func()
}

// inDoubt has a test made when the usual ones have not soon shown that it is needless, and the suspects that are left differ on it.
func (r *run) inDoubt(test string, needless, ready func(*evidence.Set) bool, f func(), kinds ...evidence.Kind) {
	d := &doubt{test: test, since: time.Now(), needless: needless, ready: ready, run: f}
	d.act, d.done = r.wait(kinds...)
	r.mu.Lock()
	r.doubts = append(r.doubts, d)
	r.mu.Unlock()
}

// works reports whether the target has shown that it works.
func works(s *evidence.Set) bool { return facts.New(s).Usable() == facts.Yes }

// settle makes the tests that are in doubt one by one: always the one on which the suspects that are left differ most. One on which they do
// not differ is not made.
func (r *run) settle(ctx context.Context) {
	var ended chan struct{} // by the test that was begun last
	var begun time.Time
	for probe.Sleep(ctx, doubtPace) {
		s := r.snapshot()
		idle := !r.busy()
		waiting := r.waiting(s)
		if len(waiting) == 0 {
			continue
		}
		if ended != nil && time.Since(begun) < doubtApart {
			select {
			case <-ended:
			default:
				continue
			}
		}
		var due []string
		for _, d := range waiting {
			if (idle || time.Since(d.since) >= doubtAfter) && (d.ready == nil || d.ready(s)) {
				due = append(due, d.test)
			}
		}
		var test verdict.Test
		var between []fault.ID
		chosen := false
		if len(due) > 0 {
			test, between, chosen = verdict.Judge(s).Choose(due)
		}
		switch {
		case chosen:
			r.observe(evidence.Chosen{Test: test.ID, Between: fault.Texts(between)})
			ended, begun = r.begin(test.ID), time.Now()
		case idle:
			r.drop(func(*doubt) bool { return true }) // nothing more will come that could make one of them tell
		}
	}
}

// waiting drops what is needless, and gives the rest.
func (r *run) waiting(s *evidence.Set) []*doubt {
	r.mu.Lock()
	none := len(r.doubts) == 0
	r.mu.Unlock()
	if none {
		return nil
	}
	r.drop(func(d *doubt) bool { return d.needless(s) })
	r.mu.Lock()
	defer r.mu.Unlock()
	return slices.Clone(r.doubts)
}

func (r *run) drop(which func(*doubt) bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.doubts = slices.DeleteFunc(r.doubts, func(d *doubt) bool {
		if which(d) {
			d.done()
			return true
		}
		return false
	})
}

// begin begins all that waits under one name; what it returns is closed when it has ended.
func (r *run) begin(test string) chan struct{} {
	ended := make(chan struct{})
	left := 0
	end := make(chan struct{}, 8)
	r.mu.Lock()
	r.doubts = slices.DeleteFunc(r.doubts, func(d *doubt) bool {
		if d.test != test {
			return false
		}
		d.act()
		left++
		r.wg.Go(func() {
			defer func() { d.done(); end <- struct{}{} }()
			d.run()
		})
		return true
	})
	r.mu.Unlock()
	r.wg.Go(func() {
		for range left {
			<-end
		}
		close(ended)
	})
	return ended
}
