package plan

import (
	"context"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/evidence/evidencetest"
	"passepartout/internal/core/verdict"
)

// planned is a run of some steps at a machine that is well.
func planned(t *testing.T, steps ...*step) *run {
	set := evidencetest.Healthy()
	r := &run{collector: newCollector(nil), board: newBoard(steps), late: func(time.Duration) time.Duration { return 0 }}
	r.ask(evidence.Subject{Target: set.Target, Interface: set.Interface}, set.Endpoint, nil)
	t.Cleanup(r.wg.Wait)
	return r
}

// open looks at the plan and says what is open.
func (r *run) openNow(ctx context.Context) []evidence.Kind { return r.look(ctx).Seen.Open }

// ends waits until so many questions have come to their end.
func (r *run) ends(t *testing.T, n int) {
	assert.Eventually(t, func() bool {
		r.lock.Lock()
		defer r.lock.Unlock()
		return len(r.over) == n
	}, 5*time.Second, time.Millisecond)
}

func answered(*moment) bool { return true }

func TestWhatMayStillComeIsOpen(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	given := make(chan struct{})
	looked := func(m *moment) []subject { return each(m.Addresses) }
	r := planned(t,
		&step{brings: kinds(evidence.NameLookup), of: once, ask: func(r *run, ctx context.Context, _ subject) {
			<-given
			r.observe(evidencetest.Healthy().Lookups[0])
		}},
		&step{brings: kinds(evidence.RouteLookup), after: kinds(evidence.NameLookup), of: looked,
			ask: func(*run, context.Context, subject) {}},
		&step{brings: kinds(evidence.ServiceConnect), after: kinds(evidence.RouteLookup),
			of: func(*moment) []subject { return nil }},
		&step{brings: kinds(evidence.TargetEcho), after: kinds(evidence.RouteLookup), needless: answered, of: once})

	all := kinds(evidence.RouteLookup, evidence.NameLookup, evidence.ServiceConnect)
	assert.Equal(t, all, r.openNow(ctx), "what a look-up may lead to is open as well, but for what is needless")
	close(given)
	r.ends(t, 1)
	assert.Equal(t, kinds(evidence.RouteLookup, evidence.ServiceConnect), r.openNow(ctx), "the answer has begun the next one")
	r.ends(t, 1)
	assert.Empty(t, r.openNow(ctx))
	assert.False(t, r.busy())
	assert.Len(t, r.progress[r.steps[1]].begun, 1, "of each address once")
}

func TestWhatWaitsForItsTime(t *testing.T) {
	begun := make(chan subject, 8)
	r := planned(t, &step{brings: kinds(evidence.OtherNeighbours), most: 2, of: func(m *moment) []subject {
		if !m.past(time.Hour) {
			return nil
		}
		return []subject{{name: "one"}, {name: "two"}, {name: "three"}}
	}, ask: func(_ *run, _ context.Context, s subject) { begun <- s }})
	m := r.look(t.Context())
	assert.Equal(t, kinds(evidence.OtherNeighbours), m.Seen.Open)
	assert.True(t, r.busy())
	assert.Equal(t, time.Hour, m.next, "it is looked at again then")
	assert.Empty(t, begun)

	r.started = r.started.Add(-time.Hour)
	r.look(t.Context())
	r.ends(t, 2)
	assert.Empty(t, r.openNow(t.Context()), "so many at most")
}

// What ends a question must hold for the grace.
func TestWhatEndsAQuestion(t *testing.T) {
	const grace = time.Minute
	over := false
	r := planned(t, &step{brings: kinds(evidence.AddressConflict), of: once,
		until: func(*moment, subject) (bool, time.Duration) { return over, grace },
		ask:   func(_ *run, ctx context.Context, _ subject) { <-ctx.Done() }})
	later := func(d time.Duration) {
		r.started = r.started.Add(-d)
		r.look(t.Context())
	}
	r.look(t.Context())
	later(grace)
	over = true
	later(0)
	over = false
	later(grace)
	over = true
	later(0)
	later(grace / 2)
	assert.Len(t, r.underWay, 1, "it has not held for so long")
	r.late = func(time.Duration) time.Duration { return time.Hour }
	later(grace)
	assert.Len(t, r.underWay, 1, "this process may not have looked at the answer yet")
	later(time.Hour)
	r.ends(t, 1)
	assert.Empty(t, r.openNow(t.Context()))
}

func TestAQuestionWaitsForAnother(t *testing.T) {
	r := planned(t)
	known := r.onceThat(func(m *moment) bool { return len(m.Lookups) > 0 })
	r.look(t.Context())
	select {
	case <-known:
		t.Error("nothing is known yet")
	default:
	}
	r.observe(evidencetest.Healthy().Lookups[0])
	r.look(t.Context())
	<-known
	r.look(t.Context()) // told once
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	assert.False(t, r.waitUntil(ctx, func(*moment) bool { return false }), "the run is over")
}

// A test that is made in doubt is open while it waits, and dropped when it is needless or could tell nothing.
func TestInDoubt(t *testing.T) {
	needless := false
	r := planned(t,
		&step{brings: kinds(evidence.NameLookup), of: once, ask: func(_ *run, ctx context.Context, _ subject) { <-ctx.Done() }},
		&step{test: "another-port", brings: kinds(evidence.ServiceConnect), of: once, needless: func(*moment) bool { return needless }})
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	assert.Contains(t, r.openNow(ctx), evidence.ServiceConnect, "its turn may come")
	needless = true
	assert.NotContains(t, r.openNow(ctx), evidence.ServiceConnect)
	needless = false
	assert.NotContains(t, r.openNow(ctx), evidence.ServiceConnect, "once is enough")
}

// What nobody waits for holds nothing up: what waits for its turn is dropped when nothing else is under way.
func TestWhatNobodyWaitsFor(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	r := planned(t,
		&step{of: once, ask: func(_ *run, ctx context.Context, _ subject) { <-ctx.Done() }},
		&step{test: "none that could tell anything", brings: kinds(evidence.ServiceConnect), of: once,
			needless: func(*moment) bool { return false }})
	r.look(ctx)
	assert.Empty(t, r.openNow(ctx))
	assert.Len(t, r.underWay, 1)
}

func TestThePlan(t *testing.T) {
	var tests, known []string
	next := map[evidence.Kind][]evidence.Kind{}
	for _, s := range steps {
		if s.test != "" {
			tests = append(tests, s.test)
			assert.NotNil(t, s.needless, "%s is made only in doubt", s.test)
		}
		for _, k := range s.after {
			next[k] = append(next[k], s.brings...)
		}
	}
	for _, x := range verdict.Tests {
		known = append(known, x.ID)
	}
	assert.ElementsMatch(t, known, tests, "the tests that can be chosen are those that can be made")

	var walk func(k evidence.Kind, way []evidence.Kind)
	walk = func(k evidence.Kind, way []evidence.Kind) {
		if assert.NotContains(t, way, k, "what keeps itself open is never over") {
			for _, n := range next[k] {
				walk(n, append(slices.Clone(way), k))
			}
		}
	}
	for k := range next {
		walk(k, nil)
	}
}
