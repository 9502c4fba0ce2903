package series

import (
	"slices"
	"time"
)

// Window sums up what was sent from a place on the axis on: what is so now, and not since the beginning.
func (r *Record) Window(from time.Duration) Summary {
	w := New(len(r.points) + 2)
	for _, p := range r.Between(from, 1<<62) {
		w.points = append(w.points, r.points[p.Number-r.first])
		*w.counts.of(p.Fate)++
		w.counts.Again += p.Again
		if p.Fate == Replied {
			w.times = append(w.times, uint32(p.RTT/Resolution))
		}
	}
	slices.Sort(w.times)
	for i := 1; i < len(w.points); i++ {
		if a, b := w.points[i-1], w.points[i]; a.fate == Replied && b.fate == Replied {
			w.variation = append(w.variation, max(a.rtt, b.rtt)-min(a.rtt, b.rtt))
		}
	}
	slices.Sort(w.variation)
	return w.Summary()
}
