package verdict

import (
	"fmt"
	"slices"
	"time"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/facts"
	"passepartout/internal/core/fault"
	"passepartout/internal/core/wording"
	"passepartout/internal/core/zone"
)

// State is how a check came out.
type State uint8

// The states. Zero is unknown.
const (
	StateUnknown State = iota
	Holds
	Strained
	Broken
	Skipped
)

var stateNames = [...]string{"unknown", "holds", "strained", "broken", "skipped"}

func (s State) String() string { return stateNames[s] }

// MarshalText gives the contract's word.
func (s State) MarshalText() ([]byte, error) { return []byte(stateNames[s]), nil }

// Check is one thing that was looked at: what was asked, what came back, what it means.
type Check struct {
	ID     string
	Label  string // one or two words, for a list
	Zone   zone.Zone
	State  State
	Fact   string   // what is so, in one line
	Asked  string   // what was asked, of whom
	Heard  []string // what came back
	Means  string
	Clears []fault.ID // ids of the suspects that it clears
	Mend   []string
	Took   time.Duration
}

// checks builds the list in the order of the work: host, local subnet, beyond.
func checks(p *facts.Facts, suspects []Suspect, usable facts.Answer) []Check {
	if p.Endpoint == nil {
		return []Check{}
	}
	all := []Check{loopback(p), link(p), address(p), route(p), resolvers(p)}
	if _, ready := p.Ready(); ready {
		all = append(all, conflict(p), neighbours(p))
	}
	all = append(all, dhcp(p))
	if p.Gateway.IsValid() {
		all = append(all, gateway(p), forwarding(p))
	}
	if !p.Target.IsZero() {
		all = append(all, names(p), path(p), service(p))
		if p.Target.Port != 0 {
			all = append(all, echo(p))
		}
		all = append(all, loss(p), size(p))
	} else if len(p.Resolvers) > 0 {
		all = append(all, names(p))
	}
	for i := range all {
		c := &all[i]
		for _, s := range suspects {
			if s.Fault.Check != c.ID {
				continue
			}
			switch {
			case s.Standing == fault.Cleared:
				c.Clears = append(c.Clears, s.Fault.ID)
			case s.Standing.Holds():
				c.State = Broken
				if s.finding.Aside || usable == facts.Yes {
					c.State = Strained
				}
				c.Means = s.Fault.Explanation()
				c.Mend = append(c.Mend, s.finding.Next...)
				c.Heard = append(c.Heard, s.For...)
				c.Heard = dedupe(c.Heard)
			}
		}
		if c.State == Broken {
			c.Clears = ruledOut(*c, suspects)
		}
	}
	return all
}

// ruledOut lists what is cleared in the zones up to a broken check's own: what the next team need not look at.
func ruledOut(c Check, suspects []Suspect) (out []fault.ID) {
	for _, s := range suspects {
		if s.Standing == fault.Cleared && s.Zone <= c.Zone {
			out = append(out, s.Fault.ID)
		}
	}
	return out
}

func dedupe(in []string) (out []string) {
	for _, s := range in {
		if !slices.Contains(out, s) {
			out = append(out, s)
		}
	}
	return out
}

// came sorts a reply into a state and words.
func came(r evidence.Reply) (State, string) {
	switch r.Outcome {
	case evidence.Answered:
		return Holds, "answered in " + wording.Millis(r.RTT)
	case evidence.Refused:
		return Broken, fmt.Sprintf("refused by %v in %s", r.From, wording.Millis(r.RTT))
	case evidence.Unreachable:
		return Broken, fmt.Sprintf("%v says: %v (ICMP type %d, code %d)", r.From, r.Why, r.ICMPType, r.ICMPCode)
	case evidence.Expired:
		return Broken, fmt.Sprintf("ended at %v", r.From)
	case evidence.Silent:
		return Broken, "no answer within " + wording.Millis(r.Waited)
	case evidence.LocalError:
		return Broken, "not sent: " + r.Reason
	case evidence.Malformed:
		return Broken, "what came is no answer: " + r.Reason
	}
	return StateUnknown, "no answer yet"
}
