package series_test

import (
	"math"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"passepartout/internal/core/series"
)

// twin is the slow and obvious way: every probe in a list, every figure counted from it.
type twin struct {
	fates []series.Fate
	rtts  []time.Duration
	again int
	keep  int
}

func (w *twin) kept() int { return max(len(w.fates)-w.keep, 0) }

func (w *twin) quantile(values []time.Duration, share float64) time.Duration {
	slices.Sort(values)
	at := share * float64(len(values)-1)
	low, high := values[int(math.Floor(at))], values[int(math.Ceil(at))]
	return low + time.Duration((at-math.Floor(at))*float64(high-low)+.5)
}

func (w *twin) check(t *rapid.T, r *series.Record) {
	s := r.Summary()
	count := map[series.Fate]int{}
	for i, f := range w.fates {
		if f == series.Pending && i < w.kept() {
			f = series.Void
		}
		count[f]++
	}
	want := series.Counts{Received: count[series.Replied], Silent: count[series.Silent], Late: count[series.Late],
		Unreachable: count[series.Unreachable],
		NotSent:     count[series.NotSent], Void: count[series.Void], Pending: count[series.Pending], Again: w.again}
	assert.Equal(t, want, s.Counts)
	var times, variation []time.Duration
	lost, runs := 0, []int{}
	for i := w.kept(); i < len(w.fates); i++ {
		switch f := w.fates[i]; {
		case f == series.Replied:
			times = append(times, w.rtts[i])
			if i > w.kept() && w.fates[i-1] == series.Replied {
				variation = append(variation, (w.rtts[i] - w.rtts[i-1]).Abs())
			}
			if lost > 0 {
				runs = append(runs, lost)
			}
			lost = 0
		case f.Lost():
			lost++
		}
	}
	if lost > 0 {
		runs = append(runs, lost)
	}
	got := []int{}
	for _, run := range s.LossRuns {
		got = append(got, run.Length)
		assert.LessOrEqual(t, run.From, run.To)
	}
	assert.Equal(t, runs, got)
	for _, list := range []struct {
		values []time.Duration
		spread series.Spread
	}{{times, s.Times}, {variation, s.Variation}} {
		if !assert.Equal(t, len(list.values) > 0, list.spread.Known) || !list.spread.Known {
			continue
		}
		for share, got := range map[float64]time.Duration{0: list.spread.Least, .05: list.spread.P05, .5: list.spread.Median,
			.95: list.spread.P95, .99: list.spread.P99, 1: list.spread.Top} {
			assert.InDelta(t, w.quantile(list.values, share), got, 1, "quantile %v", share) // to the nanosecond
		}
	}
}

// Whatever comes in whatever order, also late, twice, or for probes long forgotten, the figures equal those counted by hand.
func TestRecordEqualsItsTwin(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		keep := rapid.IntRange(2, 40).Draw(t, "keep")
		r, w := series.New(keep), &twin{keep: keep}
		at := time.Duration(0)
		for range rapid.IntRange(1, 120).Draw(t, "steps") {
			switch rapid.IntRange(0, 3).Draw(t, "what") {
			case 0, 1:
				at += time.Duration(rapid.IntRange(0, 2000).Draw(t, "later")) * time.Millisecond
				n := r.Sent(at)
				assert.Equal(t, len(w.fates), n)
				w.fates, w.rtts = append(w.fates, series.Pending), append(w.rtts, 0)
			case 2: // an end, in any order, also a second time
				if len(w.fates) == 0 {
					continue
				}
				n := rapid.IntRange(0, len(w.fates)-1).Draw(t, "which")
				fate := rapid.SampledFrom(
					[]series.Fate{series.Replied, series.Silent, series.Late, series.Unreachable, series.NotSent, series.Void}).
					Draw(t, "fate")
				rtt := time.Duration(rapid.IntRange(1, 5e7).Draw(t, "rtt")) * series.Resolution
				if ok := r.End(n, fate, rtt); assert.Equal(t, n >= w.kept(), ok) && ok {
					w.fates[n], w.rtts[n] = fate, rtt
				}
			case 3:
				if n := len(w.fates) - 1; n >= 0 {
					r.Copy(n)
					w.again++
				}
			}
		}
		w.check(t, r)
	})
}

func TestRecordOnItsAxis(t *testing.T) {
	r := series.New(100)
	for i := range 10 {
		n := r.Sent(time.Duration(i) * time.Second)
		r.End(n, series.Replied, 20*time.Millisecond)
	}
	r.End(3, series.Silent, 0)
	r.End(4, series.Late, 900*time.Millisecond)
	points := r.Between(3*time.Second, 5*time.Second)
	assert.Equal(t,
		[]series.Point{{Number: 3, At: 3 * time.Second, Fate: series.Silent},
			{Number: 4, At: 4 * time.Second, RTT: 900 * time.Millisecond, Fate: series.Late}}, points)
	assert.Equal(t, []series.Run{{From: 3 * time.Second, To: 4 * time.Second, Length: 2}}, r.Runs(), "late is lost")
	last, ok := r.Last()
	assert.True(t, ok)
	assert.Equal(t, 9, last.Number)
	assert.Equal(t, 2, r.Counts().Lost())
	assert.Empty(t, r.Between(time.Minute, time.Hour))

	r.Reset()
	assert.Equal(t, series.Counts{}, r.Counts())
	assert.False(t, r.End(9, series.Late, 1), "what was forgotten stays forgotten")
	assert.Equal(t, 10, r.Sent(11*time.Second), "numbers go on")
	_, ok = r.Last()
	assert.False(t, ok)
}

func TestMemoryIsBounded(t *testing.T) {
	r := series.New(1000)
	for i := range 50_000 {
		r.End(r.Sent(time.Duration(i)*time.Second), series.Replied, time.Duration(i%977)*time.Millisecond)
	}
	assert.Len(t, r.All(), 1000)
	assert.Equal(t, 50_000, r.Counts().Received)
}
