package report

import (
	"encoding/json"
	"fmt"
	"io"
	"sync"
	"time"

	"passepartout/internal/core/event"
	"passepartout/internal/core/fault"
	"passepartout/internal/core/state"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/wording"
	"passepartout/internal/core/zone"
)

// EventSchema names the shape of watch's lines.
const EventSchema = "passepartout.event/1"

// Watch writes what happens in a case as it happens, as JSON Lines or as text: the verdict whenever its zone, its fault or its standing
// change, changes of the machine and its segment, outages when they begin and when they are over. It is not safe for concurrent use.
type Watch struct {
	To   io.Writer
	JSON bool

	said said

	mu  sync.Mutex
	err error
}

// said is what was written of the verdict last.
type said struct {
	zone     zone.Zone
	fault    fault.ID
	standing state.Standing
}

type verdictLine struct {
	Schema   string         `json:"schema"`
	At       time.Time      `json:"at"`
	Event    string         `json:"event"`
	Standing state.Standing `json:"standing"`
	Since    time.Time      `json:"since"`
	Because  string         `json:"because"`
	Verdict  verdictJSON    `json:"verdict"`
}

type changeLine struct {
	Schema string       `json:"schema"`
	At     time.Time    `json:"at"`
	Event  string       `json:"event"`
	What   string       `json:"what"`
	Of     event.Matter `json:"of"`
}

type outageLine struct {
	Schema   string     `json:"schema"`
	At       time.Time  `json:"at"`
	Event    string     `json:"event"`
	Zone     zone.Zone  `json:"zone"`
	From     time.Time  `json:"from"`
	To       *time.Time `json:"to"`
	Evidence string     `json:"evidence"`
}

type endLine struct {
	Schema  string    `json:"schema"`
	At      time.Time `json:"at"`
	Event   string    `json:"event"`
	Because string    `json:"because"`
}

// Take writes what an event, and the state after it, have that is new. An error stays: nothing more is written after it.
func (w *Watch) Take(e event.Event, s *state.State) {
	at := stamp(e.At)
	switch b := e.Body.(type) {
	case event.Changed:
		w.write(at, changeLine{EventSchema, at, "change", b.What, b.Of}, "%s", b.What)
	case event.Outage:
		o := outageLine{EventSchema, at, "outage", zoneNow(s, b), stamp(b.From), nil, b.Evidence}
		words := "began at " + wording.Clock(b.From)
		if !b.To.IsZero() {
			to := stamp(b.To)
			o.To = &to
			words = fmt.Sprintf("from %s for %s", wording.Clock(b.From), wording.Lasting(b.To.Sub(b.From)))
		}
		w.write(at, o, "outage, %s, %s: %s", o.Zone, words, b.Evidence)
	case event.Stopped:
		w.write(at, endLine{EventSchema, at, "end", b.Because}, "end: %s", b.Because)
	}
	v := &s.Verdict
	now := said{v.Result.Zone, v.Result.Fault, v.Standing}
	if v.Standing == state.NoVerdict || now == w.said {
		return
	}
	w.said = now
	r := v.Result
	if v.Standing != state.Current && r.Confidence == verdict.Certain { // of what does not stand nothing is certain
		r.Confidence = verdict.Likely
	}
	since, because := v.Since, v.Because
	if v.Standing != state.Current {
		since = v.Doubted
	} else if n := len(s.Past); because == "" && n > 0 {
		because = s.Past[n-1].Because
	}
	words := fmt.Sprintf("%s (%s) %s", Headline(r), r.Confidence, r.Sentence)
	if v.Standing != state.Current {
		words = fmt.Sprintf("%s since %s: %s. Was: %s", v.Standing, wording.Clock(since), because, Headline(r))
	}
	w.write(at, verdictLine{EventSchema, at, "verdict", v.Standing, stamp(since), because, verdictOf(r)}, "%s", words)
}

// zoneNow is the zone to which the state lays an outage.
func zoneNow(s *state.State, b event.Outage) zone.Zone {
	for _, o := range s.Outages {
		if o.From.Equal(b.From) {
			return o.Zone
		}
	}
	return b.Zone
}

func stamp(t time.Time) time.Time { return t.UTC().Truncate(time.Millisecond) }

// write writes one line: an object, or words after the time of day. Lines come one after the other, from wherever in the case.
func (w *Watch) write(at time.Time, line any, format string, args ...any) {
	if w.Err() != nil {
		return
	}
	var err error
	if w.JSON {
		err = json.NewEncoder(w.To).Encode(line)
	} else {
		_, err = fmt.Fprintf(w.To, "%s  "+format+"\n", append([]any{wording.Clock(at.Local())}, args...)...)
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	w.err = err
}

// Err is why nothing more is written; nil while all was.
func (w *Watch) Err() error {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.err
}
