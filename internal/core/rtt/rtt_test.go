package rtt_test

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

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
		{"a departure before it was handed over is nonsense", rtt.Stamps{Departed: after(-time.Second), Arrived: after(4 * time.Millisecond)}, 4 * time.Millisecond},
		{"a departure after arrival is nonsense", rtt.Stamps{Departed: after(6 * time.Millisecond), Arrived: after(4 * time.Millisecond)}, 4 * time.Millisecond},
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

// The slow twin counts by hand.
func TestSummarize(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		run := rapid.SliceOfN(rapid.Custom(func(t *rapid.T) rtt.Sample {
			return rtt.Sample{Answered: rapid.Bool().Draw(t, "answered"), RTT: time.Duration(rapid.IntRange(1, 1e9).Draw(t, "rtt"))}
		}), 0, 60).Draw(t, "run")
		s := rtt.Summarize(run)
		lost, received := 0, 0
		for _, p := range run {
			if p.Answered {
				received++
			} else {
				lost++
			}
		}
		sum := 0
		for _, n := range s.LossRuns {
			if n < 1 {
				t.Fatal("a run of no loss")
			}
			sum += n
		}
		if s.Sent != len(run) || s.Received != received || sum != lost || len(s.RTT) != received || !slices.IsSorted(s.RTT) {
			t.Fatalf("%+v of %+v", s, run)
		}
		for _, v := range s.Variation {
			if v < 0 {
				t.Fatal("a negative variation")
			}
		}
		q := rapid.Float64Range(0, 1).Draw(t, "q")
		at, ok := rtt.Quantile(s.RTT, q)
		if ok != (received > 0) {
			t.Fatal("a quantile of nothing")
		}
		if ok {
			below := 0
			for _, v := range s.RTT {
				if v <= at {
					below++
				}
			}
			if float64(below) < q*float64(received-1) || at < s.RTT[0] || at > s.RTT[received-1] {
				t.Fatalf("quantile %v of %v is %v", q, s.RTT, at)
			}
		}
	})
	assert.Equal(t, []int{2, 1}, rtt.Summarize([]rtt.Sample{{}, {}, {Answered: true, RTT: 5}, {}, {Answered: true, RTT: 9}}).LossRuns)
}
