package verdict

import (
	"fmt"
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

// Since compares two runs of the same tests, before beside after: what became of the fault, in plain words, and which checks came out otherwise.
type Since struct {
	Outcome Outcome
	Words   string
	Changed []string // "gateway set: 172.27.40.9 lies inside the mask → 172.27.40.1 lies inside the mask"
}

// settled facts are words about settings: they change only when somebody changes something. The facts of other checks hold times, and change from run to run.
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
			s.Changed = append(s.Changed, fmt.Sprintf("%s: %s → %s", now.Label, was.Fact, now.Fact))
		case was.State != now.State && was.State != StateUnknown && now.State != StateUnknown:
			s.Changed = append(s.Changed, fmt.Sprintf("%s: %v → %v", now.Label, was.State, now.State))
		}
	}
	wrongBefore, wrongNow := before.Zone != None, after.Zone != None
	switch {
	case !wrongBefore && !wrongNow:
	case wrongBefore && !wrongNow:
		s.Outcome, s.Words = Repaired, "Repaired."
	case !wrongBefore:
		s.Outcome, s.Words = BrokenSince, "Broken since the run before, in which nothing stood in the way."
	case before.Fault == after.Fault && before.Zone == after.Zone:
		s.Outcome, s.Words = StillBroken, "Still broken."
	default:
		s.Outcome, s.Words = AnotherFault, fmt.Sprintf("Before it was %s; now another fault stands in the way.", was(before))
	}
	switch {
	case s.Words == "":
	case len(s.Changed) > 0:
		s.Words += " Changed: " + strings.Join(s.Changed[:min(len(s.Changed), 3)], "; ") + "."
	case s.Outcome == StillBroken:
		s.Words += " Nothing that was tested has changed."
	}
	return s
}

func was(r Result) string {
	if r.Fault != "" {
		return r.Fault
	}
	return "not determined"
}
