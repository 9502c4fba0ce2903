package nap

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// lateness is a meter that remembers what it is told, and measures nothing.
func lateness(waits ...turn) *Meter {
	m := &Meter{began: time.Now(), pace: time.Hour, waits: waits}
	return m
}

func TestLongerIsWaitedForOnlyWhileThisProcessWasLate(t *testing.T) {
	const patience = 20 * time.Millisecond
	for _, c := range []struct {
		name        string
		ctx         context.Context
		least, most time.Duration
	}{
		{"nothing measured", t.Context(), patience, 2 * time.Second},
		{"in time", With(t.Context(), lateness()), patience, 2 * time.Second},
		{"late before the question", With(t.Context(), lateness(turn{-time.Second, time.Hour})), patience, 2 * time.Second},
		{"late", With(t.Context(), lateness(turn{time.Hour, 4 * time.Millisecond}, turn{time.Hour, 9 * time.Millisecond})),
			patience + 13*time.Millisecond, 2 * time.Second},
		{"late for hours", With(t.Context(), lateness(turn{time.Hour, time.Hour})), mostPatience * patience, 2 * time.Second},
	} {
		t.Run(c.name, func(t *testing.T) {
			began := time.Now()
			ctx, cancel := Within(c.ctx, patience)
			defer cancel()
			<-ctx.Done()
			assert.GreaterOrEqual(t, time.Since(began), c.least)
			assert.Less(t, time.Since(began), c.most)
			assert.NoError(t, c.ctx.Err())
		})
	}
}

func TestAWaitEndsWithWhatItIsPartOf(t *testing.T) {
	whole, end := context.WithCancel(With(t.Context(), lateness(turn{time.Hour, time.Hour})))
	ctx, cancel := Within(whole, time.Hour)
	end()
	<-ctx.Done()
	cancel()
	again, cancel := Within(t.Context(), time.Hour)
	cancel()
	<-again.Done()
}

func TestTheMeterRemembersItsWaitsSinceAMoment(t *testing.T) {
	m := lateness()
	m.pace = -time.Hour // it is late by an hour, always
	m.remember(3 * time.Millisecond)
	assert.Empty(t, m.waits, "as late as timers are")
	for range 3 * mostTurns {
		m.remember(6 * time.Millisecond)
	}
	assert.LessOrEqual(t, len(m.waits), mostTurns)
	m.pace = time.Hour
	assert.Zero(t, m.Since(time.Now().Add(time.Second)))
	m.waits = []turn{{100 * time.Millisecond, 6 * time.Millisecond}, {200 * time.Millisecond, 50 * time.Millisecond}}
	for after, want := range map[time.Duration]time.Duration{0: 56, 99 * time.Millisecond: 51, 100 * time.Millisecond: 50,
		190 * time.Millisecond: 10, 200 * time.Millisecond: 0} {
		assert.Equal(t, want*time.Millisecond, m.Since(m.began.Add(after)), "%v", after)
	}
}
