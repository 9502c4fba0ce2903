package fault

import (
	"strings"

	"passepartout/internal/core/facts"
	"passepartout/internal/core/zone"
)

// Scope is who has a fault: what a person can tell by trying something else. A fault has one of these at least.
type Scope uint8

// The scopes.
const (
	OfMachine   Scope = 1 << iota // it goes with the machine, wherever that is plugged in
	OfSocket                      // it stays with the socket, whoever is plugged in there
	OfPlace                       // this machine at this place: it need not go with the one, nor stay with the other
	OfEverybody                   // it would strike every machine of the segment
	OfWayOut                      // it lies behind a gateway that passes traffic on, whichever the target
	OfTarget                      // this target alone has it
)

// Within lists the faults of a catalogue that have a scope, in its order, but for some.
func Within(s Scope, but ...*Fault) (out []ID) {
	for _, f := range Catalogue {
		if f.Scope&s != 0 && !contains(but, f) {
			out = append(out, f.ID)
		}
	}
	return out
}

func contains(list []*Fault, f *Fault) bool {
	for _, x := range list {
		if x == f {
			return true
		}
	}
	return false
}

// Relevance tells when a fault that is merely possible could explain what is broken, by how far the evidence reaches. Zero is none: a fault
// must say.
type Relevance uint8

// The relevances.
const (
	_                           Relevance = iota
	WhileThereIsNoAddress                 // it keeps the machine from getting an address; once there is one, it would have shown
	IfItShows                             // it is judged by what is set: had it been the cause, it would have been found
	WhereSomethingPasses                  // some of the traffic passes where it is at work
	WhenTrafficLeavesElsewhere            // by another interface than the one that is meant
	WhenTakenForANeighbour                // what is asked for is taken to be on the segment
	WhenSettingsWereOffered               // the same, or nothing has shown that the gateway passes traffic on
	WhileAnotherRouterIsUntried           // what is asked for fails, and another default router could not be asked
	WhileItMayStandHere                   // the target's address is of another network, and nobody knows whether it stands on the segment
	WhenNamesFail                         // no name server has given an address
	AboutTheGateway                       // at the gateway, or on either side of it
	ByReach                               // in its zone, as long as nothing has shown that traffic comes through there
)

// Relevant reports whether a fault that is merely possible, and would lie in that zone, could explain what is broken.
func (f *Fault) Relevant(p *facts.Facts, z zone.Zone) bool {
	if _, ready := p.Ready(); !ready || lacksIPv4(p) { // no address to speak with: only what concerns getting one
		return f.Matters == WhileThereIsNoAddress
	}
	if p.TargetZone() == zone.Host && z > zone.Host { // nothing outside is in the way to this machine itself
		return false
	}
	switch f.Matters {
	case WhileThereIsNoAddress, IfItShows:
		return false
	case WhereSomethingPasses:
		if p.Alive != facts.Yes {
			return false
		}
	case WhenTrafficLeavesElsewhere:
		return p.LeavesElsewhere()
	case WhenTakenForANeighbour:
		return p.TargetOnLink()
	case WhenSettingsWereOffered:
		return p.TargetOnLink() || p.Forwards != facts.Yes
	case WhileAnotherRouterIsUntried:
		_, is := untried(p)
		return is
	case WhileItMayStandHere:
		return p.NearbyUntold()
	case WhenNamesFail:
		return p.NameFailed()
	}
	switch {
	case p.Forwards == facts.Yes: // host and segment have shown that they work
		return z == zone.Beyond
	case p.Alive == facts.Yes:
		return f.Matters == AboutTheGateway
	}
	return z != zone.Beyond
}

// TitleOf is a fault's title within a sentence.
func TitleOf(id ID) string {
	for _, f := range Catalogue {
		if f.ID != id {
			continue
		}
		title := f.Title()
		if len(title) > 1 && title[1] >= 'a' && title[1] <= 'z' || strings.HasPrefix(title, "A ") { // and not DHCP
			return strings.ToLower(title[:1]) + title[1:]
		}
		return title
	}
	return string(id)
}

// Titles are the titles of faults, within a sentence.
func Titles(ids []ID) []string {
	out := make([]string, len(ids))
	for i, id := range ids {
		out[i] = TitleOf(id)
	}
	return out
}

// Texts are ids as text.
func Texts(ids []ID) []string {
	out := make([]string, len(ids))
	for i, id := range ids {
		out[i] = string(id)
	}
	return out
}
