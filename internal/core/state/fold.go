package state

import (
	"fmt"
	"math/bits"
	"slices"
	"time"

	"passepartout/internal/core/event"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/series"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/wording"
	"passepartout/internal/core/zone"
)

// Fold gives the state after one more event. States that were handed out before stay as they were.
func Fold(s State, e event.Event) State {
	s.take(e)
	return s
}

// take makes of a state what it is after one more event. What it points at is not changed: copies of it stay as they were.
func (s *State) take(e event.Event) {
	s.At = e.At
	if s.Began.IsZero() {
		s.Began = e.At
	}
	switch b := e.Body.(type) {
	case event.Began:
		s.begin(e.At, b)
	case event.Observed:
		if b.Round == s.Round.Number {
			s.Round.Set.Take(b.What)
		}
	case event.UnderWay:
		if b.Round == s.Round.Number && !s.Round.Over {
			s.Round.Set.Open = b.Kinds
		}
	case event.Judged:
		s.judge(e.At, b)
	case event.Ended:
		if b.Round == s.Round.Number {
			s.Round.Over, s.Round.Set.Open = true, nil
			if b.Failed {
				s.Round.Failed = b.Because
			}
		}
	case event.Changed:
		s.change(e.At, b)
	case event.Watched:
		s.watch(b)
	case event.Probed:
		s.probe(b)
	case event.Tried:
		s.try(e.At, b)
	case event.Outage:
		s.outage(b)
	case event.Acted:
		s.Acts = kept(s.Acts, Act{e.At, b.What, b.Outcome, b.Says}, mostChanges)
	case event.Noted:
		s.Notes = kept(s.Notes, Note{e.At, b.Text}, mostChanges)
	case event.Stopped:
		s.Stopped = b.Because
	}
	s.stand(e.At)
}

func (s *State) begin(at time.Time, b event.Began) {
	if s.Stopped != "" { // something else is asked for, after what was asked before was left
		if s.Verdict.Standing != NoVerdict {
			s.remember(s.Verdict, at, "something else was asked for")
		}
		*s = State{At: s.At, Began: s.Began, Past: s.Past, Outages: s.Outages, Changes: s.Changes, Acts: s.Acts, Notes: s.Notes}
	}
	known := s.Round.Set.Names // a station keeps its name while no server can be asked for it
	s.Round = Round{Number: b.Round, Began: at, Because: b.Because}
	s.Round.Set.Names = known
	s.Round.Set.Begin(b.Question, b.Endpoint, b.Sheet)
	s.Endpoint = b.Endpoint
}

func (s *State) judge(at time.Time, b event.Judged) {
	if b.Round != s.Round.Number {
		return
	}
	r := &s.Round
	r.Set.Elapsed = b.Elapsed
	if b.Result != nil {
		r.Result = *b.Result
	} else {
		r.Result = verdict.Judge(&r.Set)
	}
	r.Judged, r.Settled, r.Over = true, r.Settled || b.Settled || b.Over, b.Over
	if r.Settled {
		s.reach(at)
	}
}

// reach makes what the tests have led to the verdict that counts.
func (s *State) reach(at time.Time) {
	r, v := s.Round, s.Verdict
	now := Verdict{Standing: Current, Since: at, Reached: at, Checked: at, Round: r.Number, Set: r.Set, Result: r.Result}
	if v.changed.After(r.Began) { // these tests do not know of it either
		now.change, now.of, now.changed, now.void = v.change, v.of, v.changed, v.void
	}
	if r.Set.Changed != "" {
		now.change, now.changed = r.Set.Changed, at
	}
	same := v.Result.Zone == now.Result.Zone && v.Result.Fault == now.Result.Fault
	switch {
	case v.Standing == NoVerdict:
	case v.Round == r.Number: // more of the same tests has come
		now.Reached, now.Since, now.Amended = v.Reached, v.Since, v.Amended
		if !same && now.Amended == "" {
			now.Amended = v.Title()
		}
	case same:
		now.Since, now.Reached = v.Since, v.Reached
	case r.Set.Changed != "": // not yet another verdict: it is being tested again
		if v.change == "" {
			s.Verdict.change, s.Verdict.changed = now.change, at
		}
		return
	default:
		if v.Standing != Current && v.Doubted.After(v.Since) {
			now.Since = v.Doubted
		}
		because := v.Because
		if because == "" {
			because = "the tests came out otherwise"
		}
		s.remember(v, now.Since, because)
		s.lay(now)
	}
	if v.Round != r.Number { // from here on, what is seen is held against this
		s.rebase()
	}
	s.Verdict = now
}

// remember keeps what was true until now.
func (s *State) remember(v Verdict, until time.Time, because string) {
	p := Past{Target: v.Set.Target.String(), Zone: v.Result.Zone, Fault: v.Result.Fault, Title: v.Title(),
		Sentence: v.Result.Sentence, From: v.Since, To: until, Because: because, Result: v.Result, Confidence: v.Result.Confidence}
	s.Past = kept(s.Past, p, mostPast)
}

// kept adds to a list of which at most so many are kept, without touching lists that were handed out.
func kept[T any](list []T, x T, most int) []T {
	if len(list) >= most {
		list = slices.Clone(list[len(list)-most+1:])
	}
	return append(list, x)
}

func (s *State) rebase() {
	s.Witness = slices.Clone(s.Witness)
	for i := range s.Witness {
		w := &s.Witness[i]
		w.base, w.recent, w.counted = w.Health, 0, 0
	}
	t := &s.Trial
	t.base = ""
	if t.distrusted = ""; !t.Works && s.Round.Result.Zone == zone.None {
		t.distrusted = t.Outcome() // all the tests say that it works: trying it once is of no use here
	}
}

func (s *State) change(at time.Time, b event.Changed) {
	if b.Endpoint != nil {
		s.Endpoint = b.Endpoint
	}
	s.Changes = kept(s.Changes, Change{at, b.Of, b.What}, mostChanges)
	if b.Quiet {
		return
	}
	v := &s.Verdict
	if v.change == "" {
		v.changed = at
	}
	v.change, v.of, v.void = b.What, b.Of, v.void || b.Void
}

func (s *State) watch(b event.Watched) {
	s.Witness = slices.Clone(s.Witness)
	if i := slices.IndexFunc(s.Witness, func(w Witness) bool { return w.ID == b.Witness }); i >= 0 {
		w := &s.Witness[i]
		w.Name, w.Zone, w.Rank = b.Name, b.Zone, b.Rank
		return
	}
	s.Witness = append(s.Witness, Witness{ID: b.Witness, Name: b.Name, Zone: b.Zone, Rank: b.Rank})
}

// The measures of a witness, with their reasons.
const (
	// One packet may be lost anywhere; the second one in a row, sent apart from it, is a sign.
	missesTell = 2
	// So many of the last probes make a loss that is worth a test: by chance alone, three of twenty happen to one that loses one in a
	// thousand once in a million.
	lossesTell, lossesAmong = 3, 20
)

func (s *State) probe(b event.Probed) {
	i := slices.IndexFunc(s.Witness, func(w Witness) bool { return w.ID == b.Witness })
	if i < 0 || b.Fate == series.Pending || b.Fate == series.Void {
		return
	}
	s.Witness = slices.Clone(s.Witness)
	w := &s.Witness[i]
	w.recent, w.counted = w.recent<<1, min(w.counted+1, lossesAmong)
	if b.Fate == series.Replied {
		if w.Health != Answers {
			w.Health, w.Since = Answers, b.Sent
		}
		w.missed, w.Last = 0, b.Sent
		w.settle()
		return
	}
	w.recent |= 1
	if w.missed++; w.missed == 1 {
		w.first = b.Sent
	}
	if w.missed >= missesTell && w.Health != Silent {
		w.Health, w.Since = Silent, w.first
	}
	w.settle()
}

// settle takes the first that is known of a witness since the verdict for how it stood then.
func (w *Witness) settle() {
	if w.base == NotKnown {
		w.base = w.Health
	}
}

// losing is how many of the last probes were lost while the witness did answer.
func (w Witness) losing() int { return bits.OnesCount32(w.recent & (1<<lossesAmong - 1)) }

func (s *State) try(at time.Time, b event.Tried) {
	t, v := &s.Trial, &s.Verdict
	t.Last = b.Sent
	is := worksAs
	if !b.Works {
		is = b.Step + ": " + b.What
	}
	switch {
	case is == t.Outcome():
		t.candidate = ""
	case b.Works:
		*t = Trial{Known: true, Works: true, What: is, Since: b.Sent, Last: b.Sent, base: t.base}
	case is == t.candidate: // a failure may be chance until it is seen again
		*t = Trial{Known: true, What: is, Since: t.seen, Last: b.Sent, base: t.base, distrusted: t.distrusted}
	default:
		t.candidate, t.seen = is, b.Sent
	}
	if t.base == "" && t.candidate == "" && b.Sent.After(v.Reached) {
		t.base = t.Outcome()
	}
	if v.Standing == Current && t.candidate == "" && b.Works == (v.Result.Zone == zone.None) {
		v.Checked = at
	}
}

func (s *State) outage(b event.Outage) {
	if i := slices.IndexFunc(s.Outages, func(o event.Outage) bool { return o.From.Equal(b.From) }); i >= 0 {
		s.Outages = slices.Clone(s.Outages)
		b.Zone = s.Outages[i].Zone
		s.Outages[i] = b
		return
	}
	s.Outages = kept(s.Outages, b, mostOutages)
	s.lay(s.Verdict)
}

// lay lays outages that the verdict speaks of where the verdict lays them: there is one zone, and one story.
func (s *State) lay(v Verdict) {
	z := v.Result.Zone.Blamed()
	if z == zone.Unknown {
		return
	}
	for i := range s.Outages {
		if o := s.Outages[i]; o.Zone != z && (o.To.IsZero() || o.To.After(v.Since)) {
			s.Outages = slices.Clone(s.Outages)
			s.Outages[i].Zone = z
		}
	}
}

// stand says how the verdict stands, by all that has been seen since it was reached.
func (s *State) stand(at time.Time) {
	v := &s.Verdict
	if v.Standing == NoVerdict {
		return
	}
	d := s.contradiction()
	switch {
	case d.because == "" && v.Standing == Current:
	case d.because == "":
		v.Standing, v.Because, v.From, v.Doubted, v.Checked = Current, "", zone.Unknown, time.Time{}, at
	default:
		if v.Standing == Current || d.since.Before(v.Doubted) {
			v.Doubted = d.since
		}
		v.Standing, v.Because, v.From = Doubtful, d.because, d.from
		if d.strong {
			v.Standing = Outdated
		}
	}
}

// doubt is what speaks against a verdict.
type doubt struct {
	because string
	strong  bool // it cannot be so any more
	since   time.Time
	from    zone.Zone // from which zone on outwards nothing is known any more
}

// contradiction is what speaks against the verdict since it was reached; nothing, in its zero value.
func (s *State) contradiction() doubt {
	v, t := &s.Verdict, s.Trial
	sound := v.Result.Zone == zone.None
	judged := t.Known && t.Last.After(v.Reached) // the trial speaks of a time after the verdict
	switch {
	case v.change != "":
		return doubt{v.change, v.void, v.changed, placeOf(v.of)}
	case judged && sound && !t.Works && t.Outcome() != t.distrusted:
		return doubt{"the target does not work any more (" + t.What + ")", true, t.Since, zone.Beyond}
	case judged && !sound && t.Works && t.base != "" && t.base != worksAs:
		return doubt{"the target works again", true, t.Since, zone.Beyond}
	case judged && !sound && !t.Works && t.base != "" && t.Outcome() != t.base:
		return doubt{"the target fails in another way (" + t.What + ")", false, t.Since, zone.Beyond}
	}
	blamed := v.Result.Zone.Blamed()
	for _, w := range s.Witness {
		follows := blamed != zone.Unknown && w.Zone >= blamed // from what is wrong nearer by
		switch {
		case w.Rank == 0 || w.base == NotKnown:
		case w.Health == Silent && w.base == Answers:
			if sound && t.Works && t.Last.After(w.Since) {
				continue // the target was reached since: this one keeps its answers to itself, or two of them were lost by chance
			}
			if follows {
				continue
			}
			return doubt{fmt.Sprintf("%s has been silent since %s", w.Name, wording.Clock(w.Since)), false, w.Since, w.Zone}
		case w.Health == Answers && w.base == Silent && !sound:
			return doubt{fmt.Sprintf("%s answers again", w.Name), false, w.Since, w.Zone}
		case w.losing() >= lossesTell && w.Health == Answers && !s.ofQuality() && !follows:
			return doubt{fmt.Sprintf("%d of the last %d probes to %s were lost", w.losing(), w.counted, w.Name), false, s.At, w.Zone}
		}
	}
	return doubt{}
}

// placeOf is where a change may matter first.
func placeOf(of event.Matter) zone.Zone {
	switch of {
	case event.Lease, event.Offer, event.Neighbour:
		return zone.LocalSubnet
	}
	return zone.Host
}

// ofQuality reports whether the verdict is about loss or delay: that packets are lost is then no news.
func (s *State) ofQuality() bool {
	f, ok := s.Verdict.Result.Suspect(s.Verdict.Result.Fault)
	return ok && f.Fault.OfQuality
}

// TrialTells reports whether trying the target would show that a fault has gone: not of one beside which it works when it is tried once.
func (s *State) TrialTells() bool {
	return s.Trial.base != "" && s.Trial.base != worksAs && !s.ofQuality()
}

// Latest is the machine as it was read last, and the evidence beside it with that reading in place of the one that the tests began with.
func (s *State) Latest() *evidence.Set {
	set, _ := s.Shown()
	out := *set
	if s.Endpoint != nil {
		out.Endpoint = s.Endpoint
	}
	return &out
}
