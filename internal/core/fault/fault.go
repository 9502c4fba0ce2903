// Package fault is the catalogue: every fault that can be named, each one self-contained value, a file a family. A fault's judge is pure:
// it sees the evidence and nothing else, neither a clock nor the order of arrival nor another fault's finding.
package fault

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"passepartout/internal/core/change"
	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/facts"
	"passepartout/internal/core/zone"
)

// ID names a fault, as scripts and files do. The ids are part of the contract.
type ID string

// Fault is one thing that can be wrong, or, in Remarks, one that looks wrong and is not.
type Fault struct {
	ID      ID
	Scope   Scope           // who has it
	Matters Relevance       // when it is in question while nothing speaks for it
	Zone    zone.Zone       // where it usually lies; a finding may override it
	Place   int             // among those of its zone: the nearer to the host, the less. No two have the same
	Check   string          // the check on which it shows, an id of package verdict
	Doc     string          // first line the title, then what it looks like, what it is mistaken for, how to mend it
	Needs   []evidence.Kind // what it must know to be cleared or confirmed
	// OnSilence: it is told by what does not come back. While packets of all sorts are lost nearer by, that proves nothing.
	OnSilence bool
	// OfQuality: it stands in the way also of a target that is reached just now. All others then do not.
	OfQuality bool
	// Explains: ids of faults that follow from this one. Where it is found, they are folded under it.
	Explains []ID
	Judge    func(*facts.Facts) Finding
}

// Title is the first line of the doc.
func (f *Fault) Title() string {
	title, _, _ := strings.Cut(f.Doc, "\n")
	return title
}

// Explanation is the doc without its title, as one paragraph.
func (f *Fault) Explanation() string {
	_, rest, _ := strings.Cut(f.Doc, "\n")
	return strings.Join(strings.Fields(rest), " ")
}

// Finding is what a judge says of one suspect.
type Finding struct {
	Standing Standing
	Zone     zone.Zone // set when it differs from the fault's own
	Aside    bool      // true, but not in the way of the target
	For      []string  // one line each
	Against  []string
	Sentence string            // the verdict's sentence, when this is it
	Next     []string          // what to do, the first thing first
	Mends    []change.Proposal // what of that can be done on this machine, from here
	Awaits   evidence.Kind     // the verdict is not settled while more of this may come, even if another fault is found
}

// Standing is how a suspect stands. All begin as possible.
type Standing uint8

// The standings.
const (
	Possible Standing = iota
	Cleared
	Supported
	Confirmed
)

var standingNames = [...]string{"possible", "cleared", "supported", "confirmed"}

func (s Standing) String() string { return standingNames[s] }

// MarshalText gives the contract's word.
func (s Standing) MarshalText() ([]byte, error) { return []byte(standingNames[s]), nil }

// Holds reports whether the suspect is supported or confirmed.
func (s Standing) Holds() bool { return s >= Supported }

func cleared(format string, args ...any) Finding {
	return Finding{Standing: Cleared, Against: []string{fmt.Sprintf(format, args...)}}
}

func possible(format string, args ...any) Finding {
	return Finding{Standing: Possible, Against: []string{fmt.Sprintf(format, args...)}}
}

func found(s Standing, sentence string, reasons ...string) Finding {
	if len(reasons) == 0 {
		reasons = []string{sentence}
	}
	return Finding{Standing: s, Sentence: sentence, For: reasons}
}

func (f Finding) next(steps ...string) Finding {
	f.Next = append(f.Next, steps...)
	return f
}

// mends offers a change of this machine; from says where its values are known from.
func (f Finding) mends(title, from string, c change.Change) Finding {
	f.Mends = append(f.Mends, change.Proposal{Title: title, From: from, Change: c})
	return f
}

// without offers to take routes away, where all of them are such as can be.
func (f Finding) without(title string, routes ...endpoint.Route) Finding {
	var c change.Change
	for _, r := range routes {
		o, ok := change.Removal(r)
		if !ok {
			return f
		}
		c.Steps = append(c.Steps, o)
	}
	if len(routes) == 0 {
		return f
	}
	return f.mends(title, "", c)
}

// withoutRule offers to take a rule away, where it is such as can be.
func (f Finding) withoutRule(r endpoint.Rule) Finding {
	if o, ok := change.RuleRemoval(r); ok {
		return f.mends("Take the rule "+o.Rule().String()+" away", "", change.Change{Steps: []change.Op{o}})
	}
	return f
}

func (f Finding) aside(is bool) Finding {
	f.Aside = is
	return f
}

// oncePlain makes the verdict wait until it is known whether the target works all the same: if it does, the fault is true and not in the
// way.
func (f Finding) oncePlain(p *facts.Facts) Finding {
	if p.Usable() == facts.Unknown {
		f.Awaits = evidence.ServiceConnect
	}
	return f
}

func (f Finding) awaiting(k evidence.Kind) Finding {
	f.Awaits = k
	return f
}

func (f Finding) in(z zone.Zone) Finding {
	f.Zone = z
	return f
}

// Catalogue lists the faults from the host outwards: in this order the nearest to the host that explains what is seen is the verdict. Each
// family lists its own.
var Catalogue = fromTheHost(addressFaults,
	beyondFaults,
	elsewhereFaults,
	interfaceFaults,
	leaseFaults,
	namesFaults,
	lookupsFaults,
	neighboursFaults,
	portalFaults,
	translatorFaults,
	proxyFaults,
	qualityFaults,
	renewalFaults,
	routersFaults,
	routingFaults,
	segmentFaults,
	sheetFaults,
	waybackFaults,
	wayoutFaults,
	webFaults)

func fromTheHost(families ...[]*Fault) []*Fault {
	all := slices.Concat(families...)
	slices.SortStableFunc(all, func(a, b *Fault) int { return cmp.Or(cmp.Compare(a.Zone, b.Zone), cmp.Compare(a.Place, b.Place)) })
	return all
}

// Remarks lists what is shown and never blamed.
var Remarks = []*Fault{EchoFiltered, HopSilent, GatewayIgnoresEcho, RateLimitedHop, ExtraRouter, RedundantGateway, ProxyARP}
