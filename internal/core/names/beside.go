// Package names holds what the answers of several name servers mean side by side: where each is set, where they part, and which of them
// does best. It asks nobody.
package names

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/wording"
)

// Cell is what one server says to one question.
type Cell struct {
	evidence.Lookup
	Group int // servers of one group agree; 0: it said nothing that could be compared
}

// Line is one question, asked of every server: its kind and the way it went.
type Line struct {
	Type  string
	TCP   bool
	Cells []Cell // in the order of the servers
	Parts bool   // the servers disagree
}

// Beside lays look-ups out by question and server. Servers that were not asked a question have a zero cell.
func Beside(servers []netip.Addr, lookups []evidence.Lookup) (out []Line) {
	type question struct {
		kind string
		tcp  bool
	}
	var questions []question
	for _, l := range lookups {
		if q := (question{l.Type, l.TCP}); !slices.Contains(questions, q) {
			questions = append(questions, q)
		}
	}
	order := func(kind string) int {
		return slices.Index([]string{"A", "AAAA", "CNAME", "PTR", "SRV", "MX", "TXT"}, kind)
	}
	slices.SortStableFunc(questions, func(a, b question) int {
		if a.tcp != b.tcp && a.kind == b.kind {
			if a.tcp {
				return 1
			}
			return -1
		}
		return cmp.Or(cmp.Compare(order(a.kind), order(b.kind)), strings.Compare(a.kind, b.kind))
	})
	for _, q := range questions {
		line := Line{Type: q.kind, TCP: q.tcp}
		var groups []string
		for _, s := range servers {
			c := Cell{}
			for _, l := range lookups {
				if l.Server == s && l.Type == q.kind && l.TCP == q.tcp {
					c.Lookup = l
				}
			}
			if c.Outcome == evidence.Answered {
				said := Gist(c.Lookup)
				if c.Group = slices.Index(groups, said) + 1; c.Group == 0 {
					groups = append(groups, said)
					c.Group = len(groups)
				}
			}
			line.Cells = append(line.Cells, c)
		}
		line.Parts = len(groups) > 1
		out = append(out, line)
	}
	return out
}

// Gist is what an answer says, without what may differ between two servers that agree: order, and how long it may be kept.
func Gist(l evidence.Lookup) string {
	var values []string
	for _, r := range l.Records {
		values = append(values, r.Type+" "+strings.ToLower(r.Value))
	}
	slices.Sort(values)
	return l.RCode + " " + strings.Join(slices.Compact(values), ", ")
}

// Words says what a look-up brought, in one line.
func Words(l evidence.Lookup) string {
	switch l.Outcome {
	case evidence.NotKnown:
		return "not asked"
	case evidence.Silent:
		return fmt.Sprintf("no answer within %.1f s", l.Waited.Seconds())
	case evidence.Refused:
		return "no name service there"
	case evidence.Malformed:
		return "nonsense: " + l.Reason
	case evidence.LocalError:
		return "not sent: " + l.Reason
	case evidence.Unreachable, evidence.Expired:
		return fmt.Sprintf("%v says: %v", l.From, cmp.Or(l.Why.String(), l.Outcome.String()))
	}
	switch l.RCode {
	case "NXDOMAIN":
		return "no such name"
	case "SERVFAIL":
		return "it cannot (SERVFAIL)"
	case "REFUSED":
		return "it will not (REFUSED)"
	case "NOERROR":
	default:
		return l.RCode
	}
	if len(l.Records) == 0 {
		return "no " + l.Type + " for it"
	}
	var values []string
	for _, r := range l.Records {
		values = append(values, r.Value)
	}
	return strings.Join(values, ", ")
}

// Footing says how an answer came: how fast, how long it may be kept, with what authority, and what was odd about it.
func Footing(l evidence.Lookup) string {
	if l.Outcome != evidence.Answered {
		return ""
	}
	parts := []string{wording.Millis(l.RTT)}
	if l.Asks > 1 {
		parts = append(parts, fmt.Sprintf("asked %d times", l.Asks))
	}
	if l.Life > 0 {
		parts = append(parts, "keeps "+life(l.Life))
	}
	if l.Authoritative {
		parts = append(parts, "authoritative")
	}
	if l.Truncated {
		parts = append(parts, "too long for UDP")
	}
	if l.Ignored > 0 {
		parts = append(parts, fmt.Sprintf("%d foreign answers ignored", l.Ignored))
	}
	return strings.Join(parts, " · ")
}

func life(d time.Duration) string {
	switch {
	case d < 2*time.Minute:
		return fmt.Sprintf("%d s", int(d.Seconds()))
	case d < 2*time.Hour:
		return fmt.Sprintf("%d min", int(d.Minutes()))
	}
	return fmt.Sprintf("%d h", int(d.Hours()))
}
