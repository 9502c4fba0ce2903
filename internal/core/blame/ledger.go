// Package blame says whose loss it was. Witnesses that stand one behind the other on the way to a target are probed in step; an interval in
// which something was lost or late is laid to the nearest zone whose witness was failing at that moment.
package blame

import (
	"cmp"
	"slices"
	"time"

	"passepartout/internal/core/series"
	"passepartout/internal/core/zone"
)

// Witness is one target that speaks for a zone.
type Witness struct {
	Name   string
	Zone   zone.Zone
	Rank   int // order on the way: the loopback first, the target last
	Record *series.Record
}

// Span is a time in which something else is known: the port had no signal, or the machine slept. To is 0 while it lasts.
type Span struct {
	From, To time.Duration
	Why      string
	Asleep   bool // nothing was sent, so that nothing was lost
}

func (s Span) overlaps(from, to time.Duration) bool {
	return s.From < to && (s.To == 0 || s.To > from)
}

// settling is how long before and after its span a loss is still the port's: what was under way when it went, and what was sent while
// neighbours were asked for anew and switches learned where it is.
const settling = time.Second

// State is what an interval was like.
type State uint8

// The states. Zero: nothing was probed, or what was lost speaks for no zone.
const (
	Unknown State = iota
	Fine
	Failing
)

// Interval is one step of the ledger.
type Interval struct {
	State State
	Zone  zone.Zone
}

// Outage is a number of failing intervals of one zone, one after the other.
type Outage struct {
	From, To time.Duration // from the first probe lost until a step after the last one
	Zone     zone.Zone
	Lost     int    // probes of the zone's witness and of those behind it
	Cause    string // what else is known, such as a port without signal
	Failing  []string
	Fine     []string // the nearer ones that answered meanwhile
}

// Length is how long it lasted.
func (o Outage) Length() time.Duration { return o.To - o.From }

// The bounds of what is kept: two days of seconds, and more outages than anybody reads.
const (
	mostIntervals = 48 * 3600
	mostOutages   = 5000
)

// Ledger attributes interval after interval. It is not safe for concurrent use.
type Ledger struct {
	step      time.Duration
	first     int // number of intervals[0]
	intervals []Interval
	outages   []Outage
	alone     map[string]*tally
}

// tally counts how often a witness failed, and how often nothing behind it did.
type tally struct{ failed, alone int }

// A witness that fails while all behind it answer holds its own answers back (routers ration them). One such interval may be chance; from
// ownNumber on, when they are ownShare of all its failures, it is its habit.
const (
	ownNumber = 10
	ownShare  = 0.9
)

// NewLedger returns a ledger of intervals of that length.
func NewLedger(step time.Duration) *Ledger { return &Ledger{step: step, alone: map[string]*tally{}} }

// Step is the length of an interval.
func (l *Ledger) Step() time.Duration { return l.step }

// At gives the interval that holds a place on the axis.
func (l *Ledger) At(at time.Duration) Interval {
	if i := int(at/l.step) - l.first; i >= 0 && i < len(l.intervals) {
		return l.intervals[i]
	}
	return Interval{}
}

// Until is how far the ledger has come.
func (l *Ledger) Until() time.Duration { return time.Duration(l.first+len(l.intervals)) * l.step }

// Outages lists what was found, the oldest first.
func (l *Ledger) Outages() []Outage { return slices.Clone(l.outages) }

// Reset forgets everything before a place on the axis.
func (l *Ledger) Reset(at time.Duration) {
	*l = Ledger{step: l.step, first: int(at / l.step), alone: map[string]*tally{}}
}

// Update attributes the intervals that are over, up to a place on the axis before which no probe is under way.
func (l *Ledger) Update(witnesses []Witness, spans []Span, upTo time.Duration) {
	ws := slices.Clone(witnesses)
	slices.SortStableFunc(ws, func(a, b Witness) int { return cmp.Compare(a.Rank, b.Rank) })
	for l.Until()+l.step <= upTo {
		from := l.Until()
		l.take(ws, spans, from, from+l.step)
	}
}

// seen is what one witness has to say about one interval.
type seen struct {
	Witness
	ended, bad  int
	first, last time.Duration // of the lost ones
	notSent     bool
}

func look(ws []Witness, from, to time.Duration) (out []seen) {
	for _, w := range ws {
		if w.Record.Counts().Received == 0 {
			continue // it has never answered: it may be one that does not
		}
		s := seen{Witness: w}
		for _, p := range w.Record.Between(from, to) {
			switch {
			case p.Fate == series.Pending || p.Fate == series.Void:
				continue
			case p.Fate.Lost() || p.Fate == series.NotSent:
				if s.bad == 0 {
					s.first = p.At
				}
				s.bad, s.last = s.bad+1, p.At
				s.notSent = s.notSent || p.Fate == series.NotSent
			}
			s.ended++
		}
		if s.ended > 0 {
			out = append(out, s)
		}
	}
	return out
}

func (l *Ledger) take(ws []Witness, spans []Span, from, to time.Duration) {
	saw := look(ws, from, to)
	verdict := Interval{State: Fine}
	cause := ""
	nearest := slices.IndexFunc(saw, func(s seen) bool { return s.bad > 0 })
	switch {
	case len(saw) == 0 || slices.ContainsFunc(spans, func(s Span) bool { return s.Asleep && s.overlaps(from, to) }):
		verdict = Interval{}
	case nearest < 0:
	default:
		for _, s := range spans {
			if !s.Asleep &&
				(s.overlaps(from, to) ||
					slices.ContainsFunc(saw, func(w seen) bool { return w.bad > 0 && s.overlaps(w.first-settling, w.last+settling) })) {
				cause = s.Why
			}
		}
		if cause != "" || slices.ContainsFunc(saw, func(s seen) bool { return s.notSent }) {
			verdict = Interval{State: Failing, Zone: zone.Host}
			break
		}
		for nearest >= 0 && l.ownHabit(saw, nearest) {
			next := slices.IndexFunc(saw[nearest+1:], func(s seen) bool { return s.bad > 0 })
			if next < 0 {
				nearest = -1
			} else {
				nearest += next + 1
			}
		}
		if nearest >= 0 {
			verdict = Interval{State: Failing, Zone: saw[nearest].Zone}
		}
	}
	if len(l.intervals) >= mostIntervals {
		l.intervals = append(l.intervals[:0], l.intervals[1:]...)
		l.first++
	}
	l.intervals = append(l.intervals, verdict)
	if verdict.State == Failing {
		l.extend(verdict.Zone, saw, from, cause)
	}
}

// ownHabit notes that a witness failed, and reports whether that is its own doing: nothing behind it fails.
func (l *Ledger) ownHabit(saw []seen, i int) bool {
	behind := saw[i+1:]
	alone := len(behind) > 0 && !slices.ContainsFunc(behind, func(s seen) bool { return s.bad > 0 })
	t := l.alone[saw[i].Name]
	if t == nil {
		t = &tally{}
		l.alone[saw[i].Name] = t
	}
	t.failed++
	if !alone {
		return false
	}
	t.alone++
	// A router beyond the gateway that alone keeps silent is never on trial: its answers are errors or echoes of its own, which it rations.
	return saw[i].Zone == zone.Beyond || t.alone >= ownNumber && float64(t.alone) >= ownShare*float64(t.failed)
}

// extend adds an interval to the outage that it continues, or begins a new one.
func (l *Ledger) extend(z zone.Zone, saw []seen, from time.Duration, cause string) {
	o := Outage{Zone: z, Cause: cause, From: -1}
	for _, s := range saw {
		switch {
		case s.bad > 0 && (s.Zone >= z || z == zone.Host):
			o.Failing = append(o.Failing, s.Name)
			o.Lost += s.bad
			if o.From < 0 || s.first < o.From {
				o.From = s.first
			}
			o.To = max(o.To, s.last)
		case s.bad == 0:
			o.Fine = append(o.Fine, s.Name)
		}
	}
	o.To += min(l.step, time.Second)
	if n := len(l.outages) - 1; n >= 0 && l.outages[n].Zone == z && from-l.outages[n].To <= l.step {
		was := &l.outages[n]
		was.To, was.Lost = o.To, was.Lost+o.Lost
		if was.Cause == "" {
			was.Cause = o.Cause
		}
		for _, name := range o.Failing {
			if !slices.Contains(was.Failing, name) {
				was.Failing = append(was.Failing, name)
			}
		}
		was.Fine = slices.DeleteFunc(was.Fine, func(name string) bool { return !slices.Contains(o.Fine, name) })
		return
	}
	if len(l.outages) >= mostOutages {
		l.outages = slices.Delete(l.outages, 0, 1)
	}
	l.outages = append(l.outages, o)
}
