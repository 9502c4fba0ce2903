package verdict

import (
	"fmt"
	"slices"
	"strings"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/fault"
	"passepartout/internal/core/wording"
)

// Test is one that the program makes by itself when the usual ones have not soon shown that the target works. Its outcomes are like the
// answers to a question: by what each would clear and speak for, the test is chosen on which the suspects that are left differ most.
type Test struct {
	ID       string
	Text     string
	Outcomes []Choice
	Found    func(*evidence.Set) string // what came of it, in one sentence; "" for nothing yet
}

// behindGateway are the faults that lie behind a gateway which passes traffic on, ofTheTarget those that only this target has.
var behindGateway, ofTheTarget = fault.Within(fault.OfWayOut), fault.Within(fault.OfTarget)

// ids are those of some faults.
func ids(faults ...*fault.Fault) (out []fault.ID) {
	for _, f := range faults {
		out = append(out, f.ID)
	}
	return out
}

// Tests are all that can be chosen.
var Tests = []Test{
	{ID: "another-neighbour", Text: "Does another neighbour than the gateway pass traffic on?", Outcomes: []Choice{
		{ID: "one-does", Points: ids(fault.GatewayNotARouter, fault.DHCPWrongOptions, fault.DHCPRogue),
			Clears: append(ids(fault.SegmentIsolated, fault.GatewaySilent, fault.GatewayDoesNotForward), behindGateway...)},
		{ID: "none-does", Clears: ids(fault.GatewayNotARouter),
			Points: ids(fault.GatewaySilent, fault.GatewayDoesNotForward, fault.UplinkDown)},
	}, Found: func(s *evidence.Set) string {
		asked := 0
		for _, h := range s.Handoffs {
			if h.HopLimit != 1 {
				continue
			}
			if asked++; h.Passed() {
				return fmt.Sprintf("%v does.", h.By)
			}
		}
		return noneOf(asked, "None of the %d that were handed a packet does.")
	}},
	{ID: "named-servers", Text: "Do the name servers that the network names know the name?", Outcomes: []Choice{
		{ID: "one-does", Points: ids(fault.ResolverWrong, fault.DHCPWrongOptions),
			Clears: append(
				ids(fault.GatewayDoesNotForward, fault.NameNotFound, fault.ResolverSilent, fault.ResolverSilentLocal,
					fault.NameServerFailing), behindGateway...)},
		{ID: "none-does", Clears: ids(fault.ResolverWrong)},
	}, Found: func(s *evidence.Set) string {
		for _, l := range s.Elsewhere {
			if len(l.Addresses) > 0 {
				return fmt.Sprintf("%v says %s.", l.Server, wording.List(l.Addresses))
			}
		}
		return noneOf(len(s.Elsewhere), "None of the %d that were asked does.")
	}},
	{ID: "another-port", Text: "Is the target reached out of another interface of this machine?", Outcomes: []Choice{
		{ID: "reached", Points: ids(fault.CompetingDefaultRoutes, fault.TunnelHoldsRoute, fault.RouteBlocked),
			Clears: append(append(ids(fault.GatewaySilent, fault.GatewayDoesNotForward), behindGateway...), ofTheTarget...)},
		{ID: "not-reached", Clears: ids(fault.CompetingDefaultRoutes)},
	}, Found: func(s *evidence.Set) string {
		for _, w := range s.OtherWays {
			if w.Outcome == evidence.Answered {
				return "Yes, out of " + w.Interface + "."
			}
		}
		return noneOf(len(s.OtherWays), "Not in %d attempts.")
	}},
	{ID: "documented-services", Text: "Do other services of the site sheet answer?", Outcomes: []Choice{
		{ID: "they-do",
			Clears: append(ids(fault.HostFirewall, fault.GatewaySilent, fault.GatewayDoesNotForward, fault.SegmentIsolated),
				fault.UplinkDown.ID), Points: ofTheTarget},
		{ID: "none-does", Points: behindGateway, Clears: ids(fault.ServiceFiltered)},
	}, Found: func(s *evidence.Set) string {
		own, _ := s.TargetAddresses()
		asked := 0
		for _, c := range s.Connects {
			if slices.Contains(own, c.To.Addr()) {
				continue
			}
			if asked++; c.Outcome == evidence.Answered {
				return fmt.Sprintf("%v does.", c.To)
			}
		}
		return noneOf(asked, "None does in %d attempts.")
	}},
	{ID: "named-portal", Text: "Does the captive portal that the network names hold this machine back?", Outcomes: []Choice{
		{ID: "held-back", Points: ids(fault.CaptivePortal),
			Clears: append(append(ids(fault.HostFirewall, fault.GatewayDoesNotForward), behindGateway...), ofTheTarget...)},
		{ID: "free", Clears: ids(fault.CaptivePortal)},
	}, Found: func(s *evidence.Set) string {
		for _, x := range s.Portals {
			switch {
			case x.Captive == evidence.CaptiveYes:
				return "It says that it does."
			case x.Captive == evidence.CaptiveNo:
				return "It says that it does not."
			}
		}
		return noneOf(len(s.Portals), "Asked %d times, it does not say.")
	}},
}

// noneOf says how many were asked in vain.
func noneOf(asked int, words string) string {
	if asked == 0 {
		return ""
	}
	return fmt.Sprintf(words, asked)
}

// TestOf is the test that was chosen.
func TestOf(c evidence.Chosen) Test {
	for _, t := range Tests {
		if t.ID == c.Test {
			return t
		}
	}
	return Test{ID: c.Test, Text: c.Test, Found: func(*evidence.Set) string { return "" }}
}

// Words are the test's question and what came of it.
func (t Test) Words(s *evidence.Set) string { return strings.TrimSpace(t.Text + " " + t.Found(s)) }

// Parts says what a test would part of the suspects that are left: how many pairs in different zones, how many in one, and which faults.
func (r Result) Parts(t Test) (across, within int, faults []fault.ID) {
	var left []Suspect
	for _, s := range r.Suspects {
		if s.Standing.Holds() && !s.finding.Aside || s.Standing == fault.Possible {
			left = append(left, s)
		}
	}
	across, within = parts(t.Outcomes, left)
	for _, s := range left {
		if slices.ContainsFunc(t.Outcomes, func(o Choice) bool {
			return slices.Contains(o.Clears, s.Fault.ID) || slices.Contains(o.Points, s.Fault.ID)
		}) {
			faults = append(faults, s.Fault.ID)
		}
	}
	return across, within, faults
}

// Choose chooses among tests the one on which the suspects that are left differ most: those in different zones first. It is false when they
// differ on none.
func (r Result) Choose(ids []string) (chosen Test, faults []fault.ID, ok bool) {
	best := [2]int{}
	for _, t := range Tests {
		if !slices.Contains(ids, t.ID) {
			continue
		}
		across, within, about := r.Parts(t)
		if n := [2]int{across, within}; slices.Compare(n[:], best[:]) > 0 {
			best, chosen, faults, ok = n, t, about, true
		}
	}
	return chosen, faults, ok
}
