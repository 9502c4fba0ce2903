package ticket_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"passepartout/internal/core/event"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/evidence/evidencetest"
	"passepartout/internal/core/state"
	"passepartout/internal/core/ticket"
	"passepartout/internal/core/verdict"
)

// of is the state of a case in which the tests saw that.
func of(at time.Time, set *evidence.Set) *state.State {
	var s state.State
	r := verdict.Judge(set)
	s = state.Fold(s, event.Event{At: at, Body: event.Began{Round: 1, Question: evidence.Subject{Target: set.Target,
		Interface: set.Interface}, Endpoint: set.Endpoint}})
	s.Round.Set = *set
	return new(state.Fold(s, event.Event{At: at, Body: event.Judged{Round: 1, Settled: true, Over: true, Verdict: event.VerdictOf(r),
		Result: &r}}))
}

func TestBeside(t *testing.T) {
	at := time.Date(2026, 11, 23, 9, 14, 3, 0, time.UTC)
	healthy := of(at, evidencetest.Healthy())
	later := evidencetest.Healthy()
	for i := range later.Echoes { // the same, some milliseconds slower
		later.Echoes[i].RTT += 3 * time.Millisecond
	}
	silent := evidencetest.Healthy()
	silent.Neighbours = silent.Neighbours[1:]
	silent.Endpoint.Resolvers = silent.Endpoint.Resolvers[:1]

	parting := func(a, b *state.State) map[string][]ticket.Pair {
		out := map[string][]ticket.Pair{}
		for _, m := range ticket.Beside(a, b) {
			for _, p := range m.Pairs {
				if p.Parts {
					out[m.Title] = append(out[m.Title], p)
				}
			}
		}
		return out
	}
	assert.Empty(t, parting(healthy, of(at.Add(time.Hour), later)), "times do not part them")
	got := parting(healthy, of(at, silent))
	assert.Contains(t, got["The machine"], ticket.Pair{Left: "203.0.113.53", Parts: true}, "only one has it")
	assert.NotEmpty(t, got["Checks"])
	for _, p := range got["Checks"] {
		assert.NotEqual(t, p.Left, p.Right)
	}
	other := parting(of(at, silent), healthy)
	for title, pairs := range got { // the other way round, the sides are changed
		for i, p := range pairs {
			if title != "Names" && title != "The way" { // whose order follows from the left
				assert.Equal(t, ticket.Pair{Name: p.Name, Left: p.Right, Right: p.Left, Parts: true}, other[title][i])
			}
		}
	}
	var nothing state.State
	assert.NotPanics(t, func() {
		ticket.Beside(&nothing, healthy)
		ticket.Beside(healthy, &nothing)
		ticket.Beside(&nothing, &nothing)
	})
}
