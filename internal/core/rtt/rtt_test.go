package rtt_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"passepartout/internal/core/rtt"
)

func TestRoundTrip(t *testing.T) {
	sent := time.Now()
	received := sent.Add(5 * time.Millisecond) // keeps the monotonic reading
	wall := sent.Round(0)
	after := func(d time.Duration) time.Time { return wall.Add(d) }
	for _, c := range []struct {
		name   string
		stamps rtt.Stamps
		want   time.Duration
	}{
		{"no stamp", rtt.Stamps{}, 5 * time.Millisecond},
		{"the kernel knew earlier than this process", rtt.Stamps{Arrived: after(4 * time.Millisecond)}, 4 * time.Millisecond},
		{"and sent later", rtt.Stamps{Departed: after(time.Millisecond), Arrived: after(4 * time.Millisecond)}, 3 * time.Millisecond},
		{"a departure without arrival says nothing", rtt.Stamps{Departed: after(time.Millisecond)}, 5 * time.Millisecond},
		{"a departure before it was handed over is nonsense",
			rtt.Stamps{Departed: after(-time.Second), Arrived: after(4 * time.Millisecond)}, 4 * time.Millisecond},
		{"a departure after arrival is nonsense", rtt.Stamps{Departed: after(6 * time.Millisecond), Arrived: after(4 * time.Millisecond)},
			4 * time.Millisecond},
		{"an arrival before sending is nonsense", rtt.Stamps{Arrived: after(-time.Second)}, 5 * time.Millisecond},
		{"an arrival after receipt is nonsense", rtt.Stamps{Arrived: after(time.Second)}, 5 * time.Millisecond},
	} {
		assert.Equal(t, c.want, rtt.RoundTrip(sent, received, c.stamps), c.name)
	}
}

func TestEstimator(t *testing.T) {
	var e rtt.Estimator
	assert.Equal(t, 2*time.Second, e.Timeout(200*time.Millisecond, 2*time.Second), "nothing seen: the ceiling")
	for range 50 {
		e.Add(100 * time.Millisecond)
	}
	assert.Equal(t, 200*time.Millisecond, e.Timeout(200*time.Millisecond, 2*time.Second), "steady: the floor")
	e.Add(900 * time.Millisecond)
	got := e.Timeout(200*time.Millisecond, 2*time.Second)
	assert.Greater(t, got, 900*time.Millisecond, "one late answer widens it beyond that answer")
	assert.LessOrEqual(t, got, 2*time.Second)
}
