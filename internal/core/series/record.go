// Package series keeps the probes to one target over time, in bounded memory, and says at any moment what they come to.
package series

import (
	"slices"
	"time"

	"passepartout/internal/core/token"
)

// Fate is what became of one probe.
type Fate uint8

// The fates. Zero is a probe whose time is not over.
const (
	Pending     Fate = iota
	Replied          // the answer came in time
	Silent           // nothing came in time
	Late             // the answer came after its time: lost, but not without trace
	Unreachable      // somebody said that it cannot be reached
	NotSent          // this machine did not send it
	Void             // says nothing: the machine slept while it was under way
)

var fateNames = [...]string{"under way", "reply", "no answer", "late", "unreachable", "not sent", "void"}

func (f Fate) String() string { return fateNames[f] }

// MarshalText gives the fate's word.
func (f Fate) MarshalText() ([]byte, error) { return token.Marshal(fateNames[:], f) }

// UnmarshalText reads a fate's word.
func (f *Fate) UnmarshalText(text []byte) error { return token.Unmarshal(fateNames[:], text, f) }

// Lost reports whether a probe counts as lost: sent, and not answered in time (RFC 6673 §4.2, with the time-out as its Tmax).
func (f Fate) Lost() bool { return f == Silent || f == Late || f == Unreachable }

// Resolution is the unit in which round trips are kept.
const Resolution = 100 * time.Nanosecond

// pointSize is what one probe costs in memory: the point, its place among the sorted times, and among the sorted variations.
const pointSize = 12 + 4 + 4

// Keep is how many probes a record keeps when nothing else is said: 36 hours at one a second. Memory is at most BytesFor(Keep), 2.5 MiB.
const Keep = 1 << 17

// BytesFor is how much memory a record of that many probes takes at most.
func BytesFor(keep int) int { return keep * pointSize }

// point is one probe as kept.
type point struct {
	at    uint32 // milliseconds since the axis began
	rtt   uint32 // in units of Resolution; 0 unless an answer came
	fate  Fate
	again uint8 // further copies of the answer
}

// Point is one probe.
type Point struct {
	Number int
	At     time.Duration // when it was sent, on the axis
	RTT    time.Duration // with Replied and Late, and with Unreachable when it is known
	Fate   Fate
	Again  int // further copies of the answer
}

// Counts are totals over all probes, also those that are no longer kept.
type Counts struct {
	Received, Silent, Late, Unreachable int
	NotSent, Void, Pending              int
	Again                               int
}

// Sent is how many were sent and have come to their end.
func (c Counts) Sent() int { return c.Received + c.Lost() }

// Lost is how many of those were lost.
func (c Counts) Lost() int { return c.Silent + c.Late + c.Unreachable }

func (c *Counts) of(f Fate) *int {
	switch f {
	case Replied:
		return &c.Received
	case Silent:
		return &c.Silent
	case Late:
		return &c.Late
	case Unreachable:
		return &c.Unreachable
	case NotSent:
		return &c.NotSent
	case Void:
		return &c.Void
	}
	return &c.Pending
}

// Record is one target's probes in order of sending. When it is full the oldest is dropped: the counts still know it, the times and the
// variation are those of the probes kept. It is not safe for concurrent use.
type Record struct {
	keep      int
	first     int // number of points[0]
	points    []point
	counts    Counts
	times     []uint32 // of the replies kept, sorted
	variation []uint32 // between neighbouring replies kept, sorted
}

// New returns an empty record that keeps that many probes.
func New(keep int) *Record { return &Record{keep: max(keep, 2)} }

// Sent notes a probe sent at a place on the axis, no earlier than the one before, and gives its number.
func (r *Record) Sent(at time.Duration) (number int) {
	if len(r.points) >= r.keep {
		r.drop()
	}
	r.points = append(r.points, point{at: uint32(at.Milliseconds())})
	r.counts.Pending++
	return r.first + len(r.points) - 1
}

// drop forgets the oldest probe. The slice is moved down now and then, so that a drop costs little on the whole.
func (r *Record) drop() {
	r.settle(0, false)
	if r.points[0].fate == Pending {
		r.counts.Pending--
		r.counts.Void++
	}
	r.points = r.points[1:]
	r.first++
	if cap(r.points) == len(r.points) {
		moved := make([]point, len(r.points), r.keep+r.keep/8+1)
		copy(moved, r.points)
		r.points = moved
	}
}

// End says what became of a probe. A later word replaces an earlier one: an answer that comes after its time makes Silent into Late. It is
// false for a probe that is no longer kept.
func (r *Record) End(number int, fate Fate, rtt time.Duration) bool {
	i := number - r.first
	if i < 0 || i >= len(r.points) {
		return false
	}
	r.settle(i, false)
	p := &r.points[i]
	*r.counts.of(p.fate)--
	p.fate, p.rtt = fate, uint32(min(max(rtt/Resolution, 0), 1<<32-1))
	*r.counts.of(p.fate)++
	r.settle(i, true)
	return true
}

// Copy notes one more copy of an answer.
func (r *Record) Copy(number int) {
	if i := number - r.first; i >= 0 && i < len(r.points) && r.points[i].again < 255 {
		r.points[i].again++
		r.counts.Again++
	}
}

// Fate tells what is known of a probe; Void for one that is no longer kept.
func (r *Record) Fate(number int) Fate {
	if i := number - r.first; i >= 0 && i < len(r.points) {
		return r.points[i].fate
	}
	return Void
}

// settle puts the times that depend on point i in their sorted places, or takes them out.
func (r *Record) settle(i int, in bool) {
	p := r.points[i]
	if p.fate != Replied {
		return
	}
	change(&r.times, p.rtt, in)
	for _, j := range [2]int{i - 1, i + 1} {
		if j >= 0 && j < len(r.points) && r.points[j].fate == Replied {
			change(&r.variation, max(p.rtt, r.points[j].rtt)-min(p.rtt, r.points[j].rtt), in)
		}
	}
}

func change(sorted *[]uint32, v uint32, in bool) {
	at, found := slices.BinarySearch(*sorted, v)
	switch {
	case in:
		*sorted = slices.Insert(*sorted, at, v)
	case found:
		*sorted = slices.Delete(*sorted, at, at+1)
	}
}

// Reset forgets everything.
func (r *Record) Reset() { *r = Record{keep: r.keep, first: r.first + len(r.points)} }

// Counts gives the totals.
func (r *Record) Counts() Counts { return r.counts }

func (r *Record) point(i int) Point {
	p := r.points[i]
	return Point{Number: r.first + i, At: time.Duration(p.at) * time.Millisecond, RTT: time.Duration(p.rtt) * Resolution, Fate: p.fate,
		Again: int(p.again)}
}

// Between gives the probes sent from one place on the axis up to another, the latter not included.
func (r *Record) Between(from, to time.Duration) []Point {
	search := func(d time.Duration) int {
		ms := d.Milliseconds()
		i, _ := slices.BinarySearchFunc(r.points, ms, func(p point, ms int64) int { return int(int64(p.at) - ms) })
		return i
	}
	var out []Point
	for i := search(from); i < len(r.points) && int64(r.points[i].at) < to.Milliseconds(); i++ {
		out = append(out, r.point(i))
	}
	return out
}

// All gives every probe kept.
func (r *Record) All() []Point {
	out := make([]Point, len(r.points))
	for i := range r.points {
		out[i] = r.point(i)
	}
	return out
}

// Last gives the newest probe that has come to its end, and false if none has.
func (r *Record) Last() (Point, bool) {
	for i := len(r.points) - 1; i >= 0; i-- {
		if f := r.points[i].fate; f != Pending && f != Void {
			return r.point(i), true
		}
	}
	return Point{}, false
}
