package verdict

import (
	"fmt"
	"passepartout/internal/core/fault"
	"passepartout/internal/core/zone"
	"slices"
	"strings"
)

// Outcome is what became of a fault between two runs of the same tests.
type Outcome uint8

// The outcomes. Zero: nothing was wrong before, and nothing is now.
const (
	NothingWrong Outcome = iota
	Repaired
	StillBroken
	AnotherFault // the one is gone, and another stands in the way
	BrokenSince
)

// Since compares two runs of the same tests, before beside after: what became of the fault, in plain words, and which checks came out
// otherwise.
type Since struct {
	Outcome Outcome
	Words   string
	Changes []Change
}

// Change is a check that came out otherwise than in the run before.
type Change struct {
	Before, After Check
	Settings      bool // it is about what is set, so that the facts differ; else the states do
}

func (c Change) String() string {
	if c.Settings {
		return fmt.Sprintf("%s: %s → %s", c.After.Label, c.Before.Fact, c.After.Fact)
	}
	return fmt.Sprintf("%s: %v → %v", c.After.Label, c.Before.State, c.After.State)
}

// Of gives what has changed of a check.
func (s Since) Of(id string) (Change, bool) {
	for _, c := range s.Changes {
		if c.After.ID == id {
			return c, true
		}
	}
	return Change{}, false
}

// settled facts are words about settings: they change only when somebody changes something. The facts of other checks hold times, and
// change from run to run.
var settledFacts = []string{"link", "address", "route", "resolvers"}

// Compare says what has changed from one result to another of the same question.
func Compare(before, after Result) Since {
	s := Since{}
	for _, now := range after.Checks {
		i := slices.IndexFunc(before.Checks, func(c Check) bool { return c.ID == now.ID })
		if i < 0 {
			continue
		}
		was := before.Checks[i]
		switch {
		case slices.Contains(settledFacts, now.ID) && was.Fact != now.Fact:
			s.Changes = append(s.Changes, Change{was, now, true})
		case was.State != now.State && was.State.tells() && now.State.tells():
			s.Changes = append(s.Changes, Change{was, now, false})
		}
	}
	wrongBefore, wrongNow := before.Zone != zone.None, after.Zone != zone.None
	switch {
	case !wrongBefore && !wrongNow:
	case wrongBefore && !wrongNow:
		s.Outcome, s.Words = Repaired, "Repaired."
	case !wrongBefore:
		s.Outcome, s.Words = BrokenSince, "Broken since the run before, in which nothing stood in the way."
	case before.Fault == after.Fault && before.Zone == after.Zone:
		s.Outcome, s.Words = StillBroken, "Still broken."
	default:
		s.Outcome, s.Words = AnotherFault, fmt.Sprintf("Before it was: %s. Now another fault stands in the way.", was(before))
	}
	switch {
	case s.Words == "":
	case len(s.Changes) > 0:
		const most = 3
		var parts []string
		for _, c := range s.Changes[:min(len(s.Changes), most)] {
			parts = append(parts, c.String())
		}
		s.Words += " Changed: " + strings.Join(parts, "; ") + "."
	case s.Outcome == StillBroken:
		s.Words += " Nothing that was tested has changed."
	}
	return s
}

// tells reports whether a check came out at all: what was not asked is no change.
func (s State) tells() bool { return s != StateUnknown && s != Skipped }

func was(r Result) string {
	if r.Fault != "" {
		return fault.TitleOf(r.Fault)
	}
	return "not determined"
}
