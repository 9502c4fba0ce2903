package series

import "time"

// Summary is what a record comes to. The times are of the probes kept.
type Summary struct {
	Counts
	Times     Spread        // of round trips
	Variation Spread        // between one reply and the next, without sign (RFC 3393 §4.5, RFC 5481 §4.1)
	Above     time.Duration // how far the 95th percentile lies above the least (RFC 5481 §4.2)
	LossRuns  []Run         // in order (RFC 3357), of the probes kept
}

// Spread is a distribution by its quantiles. Known is false where there are no values.
type Spread struct {
	Known                             bool
	Least, P05, Median, P95, P99, Top time.Duration
}

// Half is half the width of the middle nine tenths: what stands behind "±".
func (s Spread) Half() time.Duration { return (s.P95 - s.P05) / 2 }

// Run is a number of probes lost one after the other.
type Run struct {
	From, To time.Duration // when the first and the last of them were sent
	Length   int
}

// Summary sums up.
func (r *Record) Summary() Summary {
	s := Summary{Counts: r.counts, Times: spread(r.times), Variation: spread(r.variation), LossRuns: r.Runs()}
	s.Above = s.Times.P95 - s.Times.Least
	return s
}

// Times gives only the distribution of round trips, which costs nothing.
func (r *Record) Times() Spread { return spread(r.times) }

// Runs gives the runs of lost probes. Probes that were not sent, or say nothing, neither lengthen nor end a run.
func (r *Record) Runs() []Run {
	runs := []Run{}
	open := false
	for i := range r.points {
		switch f := r.points[i].fate; {
		case f.Lost() && open:
			last := &runs[len(runs)-1]
			last.Length++
			last.To = r.point(i).At
		case f.Lost():
			at := r.point(i).At
			runs, open = append(runs, Run{From: at, To: at, Length: 1}), true
		case f == Replied:
			open = false
		}
	}
	return runs
}

// RTTs gives the round trips of the replies kept, sorted.
func (r *Record) RTTs() []time.Duration {
	out := make([]time.Duration, len(r.times))
	for i, t := range r.times {
		out[i] = time.Duration(t) * Resolution
	}
	return out
}

// SpreadOf is the distribution of a sorted list of times in units of Resolution.
func SpreadOf(sorted []uint32) Spread { return spread(sorted) }

func spread(sorted []uint32) Spread {
	if len(sorted) == 0 {
		return Spread{}
	}
	q := func(share float64) time.Duration { return Quantile(sorted, share) }
	return Spread{Known: true, Least: q(0), P05: q(.05), Median: q(.5), P95: q(.95), P99: q(.99), Top: q(1)}
}

// Quantile gives the value below which a share of a sorted list of times lies, between two values by proportion. The list is not empty.
func Quantile(sorted []uint32, share float64) time.Duration {
	at := min(max(share, 0), 1) * float64(len(sorted)-1)
	i := int(at)
	v := float64(sorted[i])
	if i+1 < len(sorted) {
		v += (at - float64(i)) * (float64(sorted[i+1]) - v)
	}
	return time.Duration(v*float64(Resolution) + .5)
}
