package rtt

import (
	"math"
	"slices"
	"time"
)

// Sample is one probe of a run, in order of sending.
type Sample struct {
	Answered bool
	RTT      time.Duration
}

// Summary is what a run of probes comes to.
type Summary struct {
	Sent, Received int
	LossRuns       []int // lengths of the runs of lost probes, in order (RFC 3357)
	RTT            []time.Duration
	Variation      []time.Duration // |difference| of one-after-the-other answered probes (RFC 3393 §4.5, selection of consecutive packets)
}

// Summarize sums up a run. Both lists come sorted.
func Summarize(run []Sample) Summary {
	s := Summary{Sent: len(run), LossRuns: []int{}}
	lost := 0
	for i, p := range run {
		if !p.Answered {
			lost++
			continue
		}
		if lost > 0 {
			s.LossRuns = append(s.LossRuns, lost)
			lost = 0
		}
		s.Received++
		s.RTT = append(s.RTT, p.RTT)
		if i > 0 && run[i-1].Answered {
			d := p.RTT - run[i-1].RTT
			if d < 0 {
				d = -d
			}
			s.Variation = append(s.Variation, d)
		}
	}
	if lost > 0 {
		s.LossRuns = append(s.LossRuns, lost)
	}
	slices.Sort(s.RTT)
	slices.Sort(s.Variation)
	return s
}

// Quantile gives the value below which the share q of a sorted list lies, between two values by proportion; false for an empty list.
func Quantile(sorted []time.Duration, q float64) (time.Duration, bool) {
	if len(sorted) == 0 {
		return 0, false
	}
	at := math.Min(math.Max(q, 0), 1) * float64(len(sorted)-1)
	i := int(at)
	if i == len(sorted)-1 {
		return sorted[i], true
	}
	return sorted[i] + time.Duration(math.Round((at-float64(i))*float64(sorted[i+1]-sorted[i]))), true
}
