package evidence

import (
	"cmp"
	"net/netip"
	"slices"
	"time"
)

// Station is one place on the way to an address: who answered for that hop limit.
type Station struct {
	HopLimit int
	From     netip.Addr // zero: silent, or not known yet
	Outcome  Outcome
	Why      Why
	RTT      time.Duration // the quickest
	Asked    int
	Answers  int
}

// Trail is the way to one address as far as it was seen, in order of hop limit, cut after the destination.
type Trail struct {
	To       netip.Addr
	Method   string
	Stations []Station
	Reached  bool
}

// TrailTo puts together what the hops to an address say. It is false when none was asked.
func (s *Set) TrailTo(to netip.Addr) (Trail, bool) {
	t := Trail{To: to}
	by := map[int]*Station{}
	for _, h := range s.Hops {
		if h.To != to {
			continue
		}
		t.Method = h.Method
		st := by[h.HopLimit]
		if st == nil {
			st = &Station{HopLimit: h.HopLimit}
			by[h.HopLimit] = st
		}
		st.Asked++
		if h.Came() {
			st.Answers++
		}
		// What came beats silence; of two that came, the one that arrived first names the station.
		if better(h.Reply, *st) {
			st.From, st.Outcome, st.Why, st.RTT = h.From, h.Outcome, h.Why, h.RTT
		}
	}
	for _, st := range by {
		t.Stations = append(t.Stations, *st)
	}
	slices.SortFunc(t.Stations, func(a, b Station) int { return cmp.Compare(a.HopLimit, b.HopLimit) })
	for i, st := range t.Stations {
		if st.From == to || st.Outcome == Refused {
			t.Reached = st.From == to
			t.Stations = t.Stations[:i+1]
			break
		}
	}
	return t, len(by) > 0
}

func better(r Reply, than Station) bool {
	if r.Outcome == NotKnown {
		return false
	}
	came := than.Outcome != NotKnown && than.Outcome != Silent && than.Outcome != LocalError
	if r.Came() != came {
		return r.Came()
	}
	if !came {
		return than.Outcome == NotKnown || r.Outcome < than.Outcome
	}
	if r.RTT != than.RTT {
		return r.RTT < than.RTT
	}
	return r.From.Less(than.From)
}

// Last returns the farthest station that answered, and false if none did.
func (t Trail) Last() (Station, bool) {
	for _, st := range slices.Backward(t.Stations) {
		if st.From.IsValid() {
			return st, true
		}
	}
	return Station{}, false
}

// Quiet returns the stations that kept silent before the last one that answered: harmless, since later ones did.
func (t Trail) Quiet() []Station {
	last, ok := t.Last()
	var out []Station
	for _, st := range t.Stations {
		if ok && st.HopLimit < last.HopLimit && !st.From.IsValid() {
			out = append(out, st)
		}
	}
	return out
}
