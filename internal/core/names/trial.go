package names

import (
	"fmt"
	"maps"
	"math"
	"net/netip"
	"slices"
	"time"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/wording"
)

// Figures are what came of a number of look-ups at one server.
type Figures struct {
	Asked, Answered int
	Times           []time.Duration // of those answered, sorted
	Failures        map[string]int  // of the others, by what came in place of an answer
}

func (f *Figures) add(l evidence.Lookup) {
	f.Asked++
	if l.Outcome == evidence.Answered && (l.RCode == "NOERROR" || l.RCode == "NXDOMAIN") {
		f.Answered++
		i, _ := slices.BinarySearch(f.Times, l.RTT)
		f.Times = slices.Insert(f.Times, i, l.RTT)
		return
	}
	if f.Failures == nil {
		f.Failures = map[string]int{}
	}
	what := l.Outcome.String()
	if l.Outcome == evidence.Answered {
		what = l.RCode
	}
	f.Failures[what]++
}

// Share is the part that was answered, 0 to 1; 0 for none asked.
func (f *Figures) Share() float64 {
	if f.Asked == 0 {
		return 0
	}
	return float64(f.Answered) / float64(f.Asked)
}

// Typical is the median of the times; false while there are none.
func (f *Figures) Typical() (time.Duration, bool) {
	if n := len(f.Times); n > 0 {
		return f.Times[(n-1)/2], true
	}
	return 0, false
}

// Worst is the longest of the times; false while there are none.
func (f *Figures) Worst() (time.Duration, bool) {
	if n := len(f.Times); n > 0 {
		return f.Times[n-1], true
	}
	return 0, false
}

// Tally is how one server did: with each name for the first time, when it may have to ask others, and again, when it should know.
type Tally struct {
	Server     netip.Addr
	Cold, Warm Figures
}

// Trial compares name servers by many look-ups. It is not safe for concurrent use.
type Trial struct {
	Tallies []*Tally
	seen    map[string]bool
}

// NewTrial begins one between servers.
func NewTrial(servers []netip.Addr) *Trial {
	t := &Trial{seen: map[string]bool{}}
	for _, s := range servers {
		t.Tallies = append(t.Tallies, &Tally{Server: s})
	}
	return t
}

// Clone is the trial as it stands, which goes on without it.
func (t *Trial) Clone() *Trial {
	out := &Trial{seen: maps.Clone(t.seen)}
	for _, x := range t.Tallies {
		y := *x
		y.Cold.Times, y.Warm.Times = slices.Clone(x.Cold.Times), slices.Clone(x.Warm.Times)
		y.Cold.Failures, y.Warm.Failures = maps.Clone(x.Cold.Failures), maps.Clone(x.Warm.Failures)
		out.Tallies = append(out.Tallies, &y)
	}
	return out
}

// Add takes a look-up in: the first of a name at a server is a cold one, all further ones are warm.
func (t *Trial) Add(l evidence.Lookup) {
	for _, x := range t.Tallies {
		if x.Server != l.Server {
			continue
		}
		key := l.Server.String() + " " + l.Type + " " + l.Name
		if !t.seen[key] {
			t.seen[key] = true
			x.Cold.add(l)
		} else {
			x.Warm.add(l)
		}
	}
}

// The differences that matter to whoever waits for a page: five look-ups of a hundred that fail, or a look-up that takes 10 ms and half as
// long again.
const (
	shareMatters  = 0.05
	timeMatters   = 10 * time.Millisecond
	factorMatters = 1.5
	fewest        = 10 // look-ups at each, to say anything
)

// Advice is what follows from a trial.
type Advice struct {
	Best    netip.Addr // zero: no difference that matters
	Matters bool
	Words   string
}

// Advice recommends a server with its margin, or says that there is no difference that matters.
func (t *Trial) Advice() Advice {
	type standing struct {
		*Tally
		share   float64
		typical time.Duration
		answers bool
	}
	var all []standing
	for _, x := range t.Tallies {
		if x.Cold.Asked+x.Warm.Asked < fewest {
			return Advice{Words: fmt.Sprintf("Too few look-ups to compare: %d of at least %d.", x.Cold.Asked+x.Warm.Asked, fewest)}
		}
		s := standing{Tally: x, share: float64(x.Cold.Answered+x.Warm.Answered) / float64(x.Cold.Asked+x.Warm.Asked)}
		if s.typical, s.answers = x.Warm.Typical(); !s.answers {
			s.typical, s.answers = x.Cold.Typical()
		}
		all = append(all, s)
	}
	if len(all) < 2 {
		return Advice{Words: "There is no second name server to compare with."}
	}
	slices.SortStableFunc(all, func(a, b standing) int {
		if math.Abs(a.share-b.share) > shareMatters {
			return int(math.Copysign(1, b.share-a.share))
		}
		switch {
		case a.typical < b.typical:
			return -1
		case a.typical > b.typical:
			return 1
		}
		return 0
	})
	best, next := all[0], all[1]
	switch {
	case !best.answers:
		return Advice{Words: "None of them answers."}
	case best.share-next.share > shareMatters:
		return Advice{best.Server, true,
			fmt.Sprintf("Take %v: it answers %.0f %% of the look-ups, %v %.0f %%.", best.Server, 100*best.share, next.Server,
				100*next.share)}
	case next.typical-best.typical >= timeMatters && float64(next.typical) >= factorMatters*float64(best.typical):
		return Advice{best.Server, true,
			fmt.Sprintf("Take %v: a name it knows comes in %s, from %v in %s: %s sooner with every look-up.", best.Server,
				wording.Millis(best.typical), next.Server, wording.Millis(next.typical), wording.Millis(next.typical-best.typical))}
	}
	last := all[len(all)-1]
	if last.share < best.share-shareMatters || last.typical-best.typical >= timeMatters &&
		float64(last.typical) >= factorMatters*float64(best.typical) {
		return Advice{
			Words: fmt.Sprintf("No difference that matters between %v and %v; %v is worse.", best.Server, next.Server, last.Server)}
	}
	return Advice{Words: "No difference that matters."}
}
