package series

import (
	"cmp"
	"slices"
)

// Restored is the record of probes that came to their end, as a log has them, in any order. All of them are kept.
func Restored(probes []Point) *Record {
	probes = slices.Clone(probes)
	slices.SortStableFunc(probes, func(a, b Point) int { return cmp.Compare(a.At, b.At) })
	r := New(len(probes))
	for i, p := range probes {
		rtt := uint32(min(max(p.RTT/Resolution, 0), 1<<32-1))
		r.points = append(r.points, point{at: uint32(p.At.Milliseconds()), rtt: rtt, fate: p.Fate, again: uint8(min(p.Again, 255))})
		*r.counts.of(p.Fate)++
		r.counts.Again += min(p.Again, 255)
		if p.Fate != Replied {
			continue
		}
		r.times = append(r.times, rtt)
		if i > 0 && r.points[i-1].fate == Replied {
			before := r.points[i-1].rtt
			r.variation = append(r.variation, max(rtt, before)-min(rtt, before))
		}
	}
	slices.Sort(r.times)
	slices.Sort(r.variation)
	return r
}
