// Package state is all that is known of a case at one moment. It follows from the case's log alone: State = Fold(State, Event), without a
// clock and without asking anybody. Whatever is shown, printed or written of a case is read off it.
package state

import (
	"time"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/event"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/fault"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/zone"
)

// State is what is known. It is a value that nobody changes; the zero State is a case of which nothing is known yet, and says so wherever
// it is asked.
type State struct {
	At       time.Time // of the last event
	Began    time.Time // of the first one
	Endpoint *endpoint.Endpoint
	Round    Round   // the tests that were begun last
	Verdict  Verdict // the one that counts, with its standing
	Past     []Past  // what was true until when, the oldest first
	Changes  []Change
	Witness  []Witness
	Trial    Trial
	Outages  []event.Outage
	Acts     []Act  // what was changed from here, the oldest first
	Notes    []Note // what the technician wrote down, the oldest first
	Stopped  string // why nothing more comes
}

// The bounds of what is kept.
const (
	mostPast    = 200
	mostChanges = 200
	mostOutages = 2000
)

// Round is one run of the tests.
type Round struct {
	Number  int // 0: none was begun
	Began   time.Time
	Because string
	Set     evidence.Set   // what has been observed in it
	Result  verdict.Result // what followed when it was judged last
	Judged  bool           // it has been judged at all
	Settled bool
	Over    bool
	Failed  string // why the tests could not be run
}

// Standing is how a verdict stands in time.
type Standing uint8

// The standings. Zero: there is no verdict yet.
const (
	NoVerdict Standing = iota
	Current            // what it rests on is still so
	Doubtful           // something that it rests on has changed, or a witness keeps silent, and it is being tested again
	Outdated           // contradicted
)

var standingNames = [...]string{"", "current", "doubtful", "outdated"}

func (s Standing) String() string { return standingNames[s] }

// MarshalText gives the contract's word.
func (s Standing) MarshalText() ([]byte, error) { return []byte(standingNames[s]), nil }

// Verdict is what is held to be so.
type Verdict struct {
	Standing Standing
	Since    time.Time // since when it is so, as far as that is known: the first sign of it, else the moment it was reached
	Reached  time.Time // when it was reached
	Checked  time.Time // when what it rests on was last seen to be so
	Doubted  time.Time // since when it is doubtful or outdated
	Because  string    // what made it so
	From     zone.Zone // from which zone on outwards it is in doubt
	Round    int       // the tests that it came of
	Set      evidence.Set
	Result   verdict.Result
	Amended  string // what the same tests had led to before, by its title; "" if nothing else

	change  string // a change since those tests were begun, which they do not know of
	changed time.Time
	of      event.Matter
	void    bool // the change contradicts what was said
}

// Certainty is how sure a verdict is: of one that does not stand any more, nothing is certain.
func (v Verdict) Certainty() string {
	if v.Standing != Current {
		return ""
	}
	return string(v.Result.Confidence)
}

// Title names what a verdict says in a few words.
func (v Verdict) Title() string { return TitleOf(v.Result) }

// TitleOf names what a result says in a few words: the title of its fault, or that there is none.
func TitleOf(r verdict.Result) string {
	if s, ok := r.Suspect(r.Fault); ok && r.Fault != "" {
		return s.Fault.Title()
	}
	switch r.Zone {
	case zone.None:
		return "No fault stands in the way"
	case zone.Host:
		return "A fault in this host"
	case zone.LocalSubnet:
		return "A fault in the local subnet"
	case zone.Beyond:
		return "A fault beyond the gateway"
	}
	return "Not determined"
}

// Past is a verdict that was true for a time.
type Past struct {
	Target     string // what was asked for
	Zone       zone.Zone
	Fault      fault.ID
	Title      string
	Sentence   string
	From       time.Time
	To         time.Time
	Because    string // why it is no longer held
	Result     verdict.Result
	Confidence verdict.Confidence
}

// Change is something that is no longer as it was.
type Change struct {
	At   time.Time
	Of   event.Matter
	What string
}

// Act is a change of this machine that was made from here, and what became of it.
type Act struct {
	At            time.Time
	What, Outcome string
	Says          string
}

// Note is what the technician wrote down.
type Note struct {
	At   time.Time
	Text string
}

// Health is how a witness stands.
type Health uint8

// The states. Zero: none of its probes has come to its end.
const (
	NotKnown Health = iota
	Answers
	Silent // several probes in a row came to nothing
)

// Witness is one address that is probed for as long as the case lives.
type Witness struct {
	ID     string
	Name   string
	Zone   zone.Zone
	Rank   int
	Health Health
	Since  time.Time // since when it is so: the first probe of that fate
	Last   time.Time // when it answered last

	missed  int       // probes in a row that came to nothing
	first   time.Time // the first of those
	recent  uint32    // the last probes, the latest in the lowest bit: 1 is a loss
	counted int
	base    Health // as it stood when the verdict was reached
}

// Trial is how the target fared when it was last tried as programs here use it.
type Trial struct {
	Known bool
	Works bool
	What  string // with Works false: what became of it
	Since time.Time
	Last  time.Time // of the last trial

	candidate  string // another outcome, seen once so far
	seen       time.Time
	distrusted string // a failure beside which all the tests said that nothing is wrong
	base       string // as it stood when the verdict was reached; "" for not known, "works" for working
}

// worksAs is the outcome of a trial that succeeded, among those that did not.
const worksAs = "works"

// Outcome is what a trial came to, in one word or two.
func (t Trial) Outcome() string {
	switch {
	case !t.Known:
		return ""
	case t.Works:
		return worksAs
	}
	return t.What
}

// Shown is the evidence that stands behind what is shown, and what followed from it: of the tests under way until they have come to a
// verdict for the first time, else of the tests that the verdict came of.
func (s *State) Shown() (*evidence.Set, verdict.Result) {
	if s.Verdict.Standing == NoVerdict || s.Round.Number == s.Verdict.Round {
		return &s.Round.Set, s.Round.Result
	}
	return &s.Verdict.Set, s.Verdict.Result
}

// Testing reports whether tests are under way that have not come to a verdict.
func (s *State) Testing() bool { return s.Round.Number > 0 && !s.Round.Settled && !s.Round.Over }
