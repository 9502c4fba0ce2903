package state_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/event"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/evidence/evidencetest"
	"passepartout/internal/core/state"
	"passepartout/internal/core/zone"
)

// Any moment of a case can be had again: it is as when all until then had happened, and nothing after it.
func TestEveryMoment(t *testing.T) {
	began := time.Date(2026, 11, 23, 9, 14, 3, 0, time.UTC)
	set := evidencetest.Healthy()
	var line state.Timeline
	var after []state.State
	var s state.State
	add := func(b event.Body) {
		e := event.Event{At: began.Add(time.Duration(len(after)) * time.Second), Body: b}
		line.Add(e)
		s = state.Fold(s, e)
		after = append(after, s)
	}
	add(event.Began{Round: 1, Because: "asked for", Question: evidence.Subject{Target: set.Target, Interface: set.Interface},
		Endpoint: set.Endpoint})
	add(event.Judged{Round: 1, Settled: true, Over: true})
	for i := range 1500 {
		add(event.Changed{Of: event.Route, What: fmt.Sprint("route ", i), Quiet: i%500 > 0})
	}
	add(event.Outage{Zone: zone.LocalSubnet, From: began})
	add(event.Outage{Zone: zone.LocalSubnet, From: began, To: began.Add(time.Minute)})
	add(event.Acted{What: "Set eth0", Outcome: "kept"})
	add(event.Stopped{Because: "it was ended"})

	require.Len(t, line.Events(), len(after))
	assert.Equal(t, state.State{}, line.At(began.Add(-time.Second)))
	for i := 0; i < len(after); i += 37 {
		at := began.Add(time.Duration(i) * time.Second)
		assert.Equal(t, after[i], line.At(at), i)
		assert.Equal(t, after[i], line.At(at.Add(time.Second-1)), "until the next one")
	}
	assert.Equal(t, s, line.End())
	assert.Equal(t, s, line.At(began.Add(time.Hour)))
	var words []string
	for _, m := range line.Moments() {
		words = append(words, m.What)
	}
	assert.Equal(t, []string{"the tests began", "verdict: " + after[1].Verdict.Title(), "changed: route 0", "changed: route 500",
		"changed: route 1000", "an outage began, local subnet", "an outage ended, local subnet", "changed from here: Set eth0",
		"the end: it was ended"}, words)
}
