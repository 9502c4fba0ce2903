package endpoint

import (
	"fmt"
	"math"
	"net/netip"
	"strings"
)

// Rule is a rule of policy routing (ip-rule(8)): which table packets are looked up in. The usual three, for the tables local, main and
// default, are none of them.
type Rule struct {
	Priority  int // the lower, the earlier
	IPv6      bool
	From, To  netip.Prefix // zero: any
	Mark      bool         // for packets that carry a mark
	Marked    string       `json:",omitempty"` // which, as ip-rule(8) writes it: 0x1, or of some bits alone 0x1/0xff
	Incoming  bool         // for packets that came in by an interface
	Other     bool         // for some packets only, by protocol, port, user or outgoing interface
	Not       bool         // for all packets but these
	Table     int
	Refuses   bool
	LeastBits int // routes of the table with a shorter prefix do not count
}

// appliesTo reports whether packets that a program of this machine sends to an address, without a mark, are looked up by the rule.
func (e *Endpoint) appliesTo(r Rule, a netip.Addr) bool {
	if r.IPv6 != a.Is6() || r.Incoming || r.Other {
		return false
	}
	fits := (!r.To.IsValid() || r.To.Contains(a)) && !r.Mark && (!r.From.IsValid() || e.sendsFrom(r.From))
	return fits != r.Not
}

// sendsFrom reports whether an address of this machine lies in a prefix.
func (e *Endpoint) sendsFrom(p netip.Prefix) bool {
	for i := range e.Interfaces {
		for _, own := range e.Interfaces[i].Usable(p.Addr().Is6()) {
			if p.Contains(own.Prefix.Addr()) {
				return true
			}
		}
	}
	return false
}

// Ruled is the rule by which a program's packets to an address are looked up, before the main table is; false if there is none. found is
// the entry that it leads to; without one the rule refuses them.
func (e *Endpoint) Ruled(a netip.Addr) (rule Rule, found Route, ok bool) {
	for _, r := range e.Rules { // in the order of their priority
		if !e.appliesTo(r, a) {
			continue
		}
		if r.Refuses {
			return r, Route{}, true
		}
		if best, is := e.lookUp(a, r.Table, r.LeastBits); is {
			return r, best, r.Table != mainTable
		}
	}
	return Rule{}, Route{}, false
}

// String writes a rule as a person would say it.
func (r Rule) String() string {
	var parts []string
	if r.From.IsValid() {
		parts = append(parts, fmt.Sprintf("from %v", r.From))
	}
	if r.To.IsValid() {
		parts = append(parts, fmt.Sprintf("to %v", r.To))
	}
	if r.Mark {
		mark := "with a mark"
		if r.Marked != "" {
			mark = "with the mark " + r.Marked
		}
		parts = append(parts, mark)
	}
	what := "for all packets"
	if len(parts) > 0 {
		what = "for packets " + strings.Join(parts, " ")
	}
	if r.Not {
		what = "for all but packets " + strings.Join(parts, " ")
	}
	if r.Refuses {
		return fmt.Sprintf("rule %d, %s: refused", r.Priority, what)
	}
	return fmt.Sprintf("rule %d, %s: table %d", r.Priority, what, r.Table)
}

// MarkOf writes a mark, and the bits of it that count if not all do.
func MarkOf(mark uint32, mask *uint32) string {
	if mask == nil || *mask == math.MaxUint32 {
		return fmt.Sprintf("%#x", mark)
	}
	return fmt.Sprintf("%#x/%#x", mark, *mask)
}
