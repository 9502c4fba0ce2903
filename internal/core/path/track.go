package path

import (
	"cmp"
	"maps"
	"net/netip"
	"slices"
	"time"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/series"
	"passepartout/internal/core/subnet"
)

// Seen is what became of one packet sent with a hop limit.
type Seen struct {
	HopLimit int
	Flow     int
	Round    int
	At       time.Duration // when it was sent, on the axis of whoever watches
	evidence.Reply
}

// Track is the way to one address, watched over rounds: each sends one packet for each hop limit and flow. It is not safe for concurrent
// use.
type Track struct {
	To     netip.Addr
	Method string
	OnLink func(netip.Addr) bool // what lies on the own segment

	seen    []Seen // of the rounds kept
	last    map[[2]int]netip.Addr
	changes []Change
	rounds  int
}

// keepRounds bounds what is kept: a quarter of an hour at one round a second.
const keepRounds = 900

// Change is another station answering for a hop limit of one flow than before.
type Change struct {
	At       time.Duration
	HopLimit int
	Flow     int
	Was, Is  netip.Addr
}

// Add takes in one packet's end.
func (t *Track) Add(s Seen) {
	if s.Round >= t.rounds {
		t.rounds = s.Round + 1
		t.seen = slices.DeleteFunc(t.seen, func(old Seen) bool { return old.Round <= s.Round-keepRounds })
	}
	t.seen = append(t.seen, s)
	if !s.Came() || !s.From.IsValid() {
		return
	}
	if t.last == nil {
		t.last = map[[2]int]netip.Addr{}
	}
	key := [2]int{s.HopLimit, s.Flow}
	was, known := t.last[key]
	t.last[key] = s.From
	// A destination answers for every hop limit beyond its own as well; which of them is not the path's doing.
	if known && was != s.From && (was != t.To || s.HopLimit <= t.length()) {
		const most = 200
		if len(t.changes) >= most {
			t.changes = slices.Delete(t.changes, 0, 1)
		}
		t.changes = append(t.changes, Change{At: s.At, HopLimit: s.HopLimit, Flow: s.Flow, Was: was, Is: s.From})
	}
}

// Clone is a copy that stays as it is.
func (t *Track) Clone() *Track {
	out := *t
	out.seen, out.changes, out.last = slices.Clone(t.seen), slices.Clone(t.changes), maps.Clone(t.last)
	return &out
}

// Window is a copy with what was sent from a place on the axis on: the path as it is now, and not as it was since the beginning.
func (t *Track) Window(from time.Duration) *Track {
	out := *t
	out.seen = nil
	for _, s := range t.seen {
		if s.At >= from {
			out.seen = append(out.seen, s)
		}
	}
	return &out
}

// Begins is when the oldest of what is held was sent; false when nothing is.
func (t *Track) Begins() (time.Duration, bool) {
	if len(t.seen) == 0 {
		return 0, false
	}
	return t.seen[0].At, true
}

// Rounds is how many rounds were begun.
func (t *Track) Rounds() int { return t.rounds }

// Changes lists where the path changed, the oldest first.
func (t *Track) Changes() []Change { return slices.Clone(t.changes) }

// arrived reports whether an answer came from the destination itself.
func (t *Track) arrived(s Seen) bool {
	return s.From == t.To && (s.Outcome == evidence.Answered || s.Outcome == evidence.Refused)
}

// length is the least hop limit that reached the destination; 0 while none did.
func (t *Track) length() int {
	least := 0
	for _, s := range t.seen {
		if t.arrived(s) && (least == 0 || s.HopLimit < least) {
			least = s.HopLimit
		}
	}
	return least
}

// State is what a place is.
type State uint8

// The states. Zero: it keeps silent.
const (
	Silent  State = iota
	Answers       // it says that the hop limit ran out there
	Refuses       // it says that the destination cannot be reached
	DestinationState
)

// Place is one hop limit: the stations that answered for it, and how often.
type Place struct {
	HopLimit       int
	Voices         []Voice // the one heard most comes first
	Sent, Received int
	Last           time.Duration // when what it answered last was sent
	State          State
	Segment        Segment
	Said           evidence.Reply // with Refuses
}

// From is the address that answered most; zero if the place is silent.
func (p Place) From() netip.Addr {
	if len(p.Voices) == 0 {
		return netip.Addr{}
	}
	return p.Voices[0].From
}

// Lost is the share of questions that brought no answer.
func (p Place) Lost() float64 {
	if p.Sent == 0 {
		return 0
	}
	return 1 - float64(p.Received)/float64(p.Sent)
}

// Median is the usual time of the voice heard most.
func (p Place) Median() (time.Duration, bool) {
	if len(p.Voices) == 0 {
		return 0, false
	}
	return p.Voices[0].Times.Median, true
}

// Voice is one address that answered for a hop limit.
type Voice struct {
	From     netip.Addr
	Received int
	Times    series.Spread
	Flows    []int // that it answered for
}

// Reached reports whether the destination answered.
func (t *Track) Reached() bool { return t.length() > 0 }

// Places gives the path place by place, up to the destination, or the last that answered. flow chooses one flow; -1 takes all.
func (t *Track) Places(flow int) []Place {
	end := t.length()
	if end == 0 {
		for _, s := range t.seen {
			if s.Came() {
				end = max(end, s.HopLimit)
			}
		}
	}
	places := make([]Place, end)
	times := make([]map[netip.Addr][]uint32, end)
	for i := range places {
		places[i].HopLimit, times[i] = i+1, map[netip.Addr][]uint32{}
	}
	for _, s := range t.seen {
		if s.HopLimit < 1 || s.HopLimit > end || flow >= 0 && s.Flow != flow || s.Outcome == evidence.NotKnown {
			continue
		}
		p := &places[s.HopLimit-1]
		p.Sent++
		if !s.Came() {
			continue
		}
		p.Received++
		p.Last = max(p.Last, s.At)
		if _, known := times[s.HopLimit-1][s.From]; !known {
			p.Voices = append(p.Voices, Voice{From: s.From})
		}
		v := &p.Voices[slices.IndexFunc(p.Voices, func(v Voice) bool { return v.From == s.From })]
		v.Received++
		if !slices.Contains(v.Flows, s.Flow) {
			v.Flows = append(v.Flows, s.Flow)
		}
		times[s.HopLimit-1][s.From] = append(times[s.HopLimit-1][s.From], uint32(s.RTT/series.Resolution))
		switch {
		case t.arrived(s):
			p.State = DestinationState
		case p.State == DestinationState:
		case s.Outcome == evidence.Unreachable || s.Outcome == evidence.Refused:
			p.State, p.Said = Refuses, s.Reply
		case p.State == Silent:
			p.State = Answers
		}
	}
	stations := make([]netip.Addr, end)
	for i := range places {
		p := &places[i]
		for j := range p.Voices {
			list := times[i][p.Voices[j].From]
			slices.Sort(list)
			p.Voices[j].Times = series.SpreadOf(list)
			slices.Sort(p.Voices[j].Flows)
		}
		slices.SortFunc(p.Voices, func(a, b Voice) int {
			return cmp.Or(cmp.Compare(b.Received, a.Received), a.From.Compare(b.From))
		})
		stations[i] = p.From()
	}
	onLink := t.OnLink
	if onLink == nil {
		onLink = func(netip.Addr) bool { return false }
	}
	for i, segment := range Segments(stations, t.To, onLink) {
		places[i].Segment = segment
	}
	return places
}

// Stretch is a part of the way: the places of one segment that follow each other.
type Stretch struct {
	Segment Segment
	Places  []Place
	Adds    time.Duration // what it adds to the usual round trip
	Known   bool          // Adds is known: something in it answers
	Last    time.Duration // when the last packet that came through to its end was sent
	Through float64       // the share of packets that come through to its end, by what answers there or behind it
}

// Stretches groups places.
func Stretches(places []Place) (out []Stretch) {
	before := time.Duration(0)
	for i, p := range places {
		if n := len(out) - 1; n < 0 || out[n].Segment != p.Segment && p.Segment != Unknown {
			out = append(out, Stretch{Segment: p.Segment})
		}
		s := &out[len(out)-1]
		s.Places = append(s.Places, p)
		if i+1 < len(places) && (places[i+1].Segment == p.Segment || places[i+1].Segment == Unknown) {
			continue
		}
		if last, ok := s.usual(); ok {
			s.Adds, s.Known = max(last-before, 0), true
			before = max(last, before)
		}
		for _, later := range places[i:] {
			if later.Sent > 0 {
				s.Through, s.Last = max(s.Through, 1-later.Lost()), max(s.Last, later.Last)
			}
		}
	}
	return out
}

// usual is the time of the farthest place of a stretch that answers.
func (s *Stretch) usual() (time.Duration, bool) {
	for _, p := range slices.Backward(s.Places) {
		if m, ok := p.Median(); ok {
			return m, true
		}
	}
	return 0, false
}

// PrivateRouters counts the private stations behind the gateway: each may be translating addresses once more.
func PrivateRouters(places []Place) (n int) {
	for _, p := range places {
		if kind := subnet.KindOf(p.From()); p.Segment == Private && kind != subnet.LinkLocal {
			n++
		}
	}
	return n
}
