// Package event is what a case's log is made of: each thing that was read, asked, seen, judged or said, with its time. All that is known of
// a case follows from its log (package state); a log is written as JSON Lines, and read back.
package event

import (
	"time"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/fault"
	"passepartout/internal/core/series"
	"passepartout/internal/core/site"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/zone"
)

// Event is one thing that happened.
type Event struct {
	At   time.Time
	Body Body
}

// Body is what happened. The bodies are those of this package.
type Body interface{ body() }

// Began says that the tests were begun, for the first time or again.
type Began struct {
	Round    int // from 1
	Because  string
	Question evidence.Subject
	Endpoint *endpoint.Endpoint // as it stood then
	Sheet    *site.Sheet        // the documented network; nil if there is none
}

// Observed is one observation of a round.
type Observed struct {
	Round int
	What  evidence.Observation
}

// UnderWay says of which kinds of evidence more may still come.
type UnderWay struct {
	Round int
	Kinds []evidence.Kind
}

// Judged says what followed from what had been observed of a round until then.
type Judged struct {
	Round   int
	Settled bool // what may still come could not change it
	Over    bool // nothing more comes
	Elapsed time.Duration
	Verdict Verdict
	// Result is the whole of it, where it is at hand: it follows from the observations, and is not written into a log.
	Result *verdict.Result `json:"-"`
}

// Verdict is what was said.
type Verdict struct {
	Zone       zone.Zone
	Fault      fault.ID
	Confidence verdict.Confidence
	Sentence   string
	Next       []string
}

// VerdictOf is what a result says.
func VerdictOf(r verdict.Result) Verdict {
	return Verdict{Zone: r.Zone, Fault: r.Fault, Confidence: r.Confidence, Sentence: r.Sentence, Next: r.Next}
}

// Ended says that a round came to its end without a verdict: the tests could not be run, or something made them void.
type Ended struct {
	Round   int
	Because string
	Failed  bool // they could not be run at all
	Void    bool // what they led to is no evidence, and they are run again; what was said stands until then
}

// Matter is what a change is about.
type Matter string

// The matters, in the contract's words.
const (
	Link      Matter = "link"
	Address   Matter = "address"
	Route     Matter = "route"
	Neighbour Matter = "neighbour"
	Resolver  Matter = "resolver"
	Hosts     Matter = "hosts"
	Proxy     Matter = "proxy"
	Lease     Matter = "lease"
	Offer     Matter = "offer"
	Hearing   Matter = "hearing" // a gap in what is heard on the segment, or its end
	Clock     Matter = "clock"
)

// Changed says that something is no longer as it was: of this machine, or on its segment.
type Changed struct {
	Of   Matter
	What string
	// Endpoint is how the machine stands now, where it was read for this.
	Endpoint *endpoint.Endpoint
	// Void says that what was observed before and after this does not fit together.
	Void bool
	// Quiet: worth knowing, and nothing that a verdict rests on.
	Quiet bool
}

// Watched says that a witness is watched from now on.
type Watched struct {
	Witness string // what it is told apart by
	Name    string
	Zone    zone.Zone
	Rank    int // its place on the way; 0: it stands beside it
}

// Probed is the end of one probe to a witness.
type Probed struct {
	Witness string
	Sent    time.Time
	Fate    series.Fate
	RTT     time.Duration
}

// Tried is one trial of the target as a program here would use it: its name looked up, a connection opened, a request sent, as far as it
// was asked for.
type Tried struct {
	Sent  time.Time
	Works bool
	Step  string // at which it failed: "name", "connection", "request"
	What  string // in short: what became of it there, the same words for the same failure
	Took  time.Duration
}

// Outage is a time in which a zone's witnesses failed. It is told when it begins and when it is over.
type Outage struct {
	Zone     zone.Zone
	From     time.Time
	To       time.Time // zero while it lasts
	Evidence string
}

// Acted says what became of a change of this machine that was made from here.
type Acted struct {
	What    string
	Outcome string // kept, taken-back or failed
	Says    string // what else there is to say of it
}

// Noted is what the technician wrote down.
type Noted struct{ Text string }

// Stopped is the last event of a log.
type Stopped struct{ Because string }

func (Began) body()    {}
func (Acted) body()    {}
func (Noted) body()    {}
func (Observed) body() {}
func (UnderWay) body() {}
func (Judged) body()   {}
func (Ended) body()    {}
func (Changed) body()  {}
func (Watched) body()  {}
func (Probed) body()   {}
func (Tried) body()    {}
func (Outage) body()   {}
func (Stopped) body()  {}
