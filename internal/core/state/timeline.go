package state

import (
	"slices"
	"sort"
	"time"

	"passepartout/internal/core/event"
)

// Timeline is a case's log with which any moment of it can be had again: what was known then. It is filled by Add, in order of time.
type Timeline struct {
	events  []event.Event
	marks   []State // after every so many events
	last    State
	moments []Moment
}

// Moment is a point in time at which something worth a look happened.
type Moment struct {
	At   time.Time
	What string
}

// The bounds: how far a moment is from the next one that is kept, and how many are listed.
const (
	betweenMarks = 512
	mostMoments  = 5000
)

// Add puts an event to the end.
func (t *Timeline) Add(e event.Event) {
	if len(t.events)%betweenMarks == 0 {
		t.marks = append(t.marks, t.last)
	}
	var was State
	if _, probe := e.Body.(event.Probed); probe { // most are, and only the standing can follow from one
		was.Verdict.Standing = t.last.Verdict.Standing
	} else {
		was = t.last
	}
	t.events = append(t.events, e)
	t.last.take(e)
	if what := told(&was, &t.last, e); what != "" && len(t.moments) < mostMoments {
		if n := len(t.moments); n > 0 && t.moments[n-1].What == what && e.At.Sub(t.moments[n-1].At) < time.Second {
			t.moments[n-1].At = e.At // the same in steps: what is shown is how it ended
			return
		}
		t.moments = append(t.moments, Moment{e.At, what})
	}
}

// told says in words what an event brought that is worth a look; "" for nothing.
func told(was, is *State, e event.Event) string {
	switch b := e.Body.(type) {
	case event.Began:
		if b.Round == 1 {
			return "the tests began"
		}
		return "the tests began again: " + b.Because
	case event.Judged:
		if is.Verdict.Standing != NoVerdict && (was.Verdict.Round != is.Verdict.Round || was.Verdict.Title() != is.Verdict.Title()) {
			return "verdict: " + is.Verdict.Title()
		}
	case event.Changed:
		if !b.Quiet {
			return "changed: " + b.What
		}
	case event.Outage:
		if b.To.IsZero() {
			return "an outage began, " + b.Zone.String()
		}
		return "an outage ended, " + b.Zone.String()
	case event.Acted:
		return "changed from here: " + b.What
	case event.Noted:
		return "noted: " + b.Text
	case event.Stopped:
		return "the end: " + b.Because
	}
	if was.Verdict.Standing != is.Verdict.Standing && is.Verdict.Standing != NoVerdict {
		return "the verdict is " + is.Verdict.Standing.String()
	}
	return ""
}

// Events are all of them.
func (t *Timeline) Events() []event.Event { return slices.Clone(t.events) }

// End is what was known last.
func (t *Timeline) End() State { return t.last }

// Moments are the points in time that are worth a look, the earliest first.
func (t *Timeline) Moments() []Moment { return slices.Clone(t.moments) }

// At is what was known at a moment: after all that had happened until then.
func (t *Timeline) At(at time.Time) State {
	n := sort.Search(len(t.events), func(i int) bool { return t.events[i].At.After(at) })
	if n == len(t.events) {
		return t.last
	}
	if n == 0 {
		return State{}
	}
	mark := min((n-1)/betweenMarks, len(t.marks)-1)
	s := t.marks[mark]
	for _, e := range t.events[mark*betweenMarks : n] {
		s.take(e)
	}
	return s
}
