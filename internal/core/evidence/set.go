// Package evidence holds typed observations: what was asked, of whom, what came back, and when. It judges nothing.
package evidence

import (
	"net/netip"
	"slices"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/site"
	"passepartout/internal/core/target"
)

// Subject is what is asked, of which interface, and by which families.
type Subject struct {
	Target    target.Target
	Interface string // the one that the local checks are about
	Families  Families
	Before    []netip.Addr `json:",omitempty"` // the addresses that the target's name had when it was looked up last
}

// Begin makes the set one about a question to a machine; nil for a sheet says that nothing is documented.
func (s *Set) Begin(q Subject, e *endpoint.Endpoint, sheet *site.Sheet) {
	s.Target, s.Interface, s.Families, s.Endpoint, s.Sheet = q.Target, q.Interface, q.Families, e, sheet
	s.Before = q.Before
}

// Chosen is a further test that was made, with the suspects that it was to part.
type Chosen struct {
	Test    string
	Between []string // faults that were still in question
}

// Named is the name of an address, as reverse DNS has it.
type Named struct {
	Address netip.Addr
	Name    string
}

// NameOf gives the name of an address, "" if none is known.
func (s *Set) NameOf(a netip.Addr) string {
	for _, n := range s.Names {
		if n.Address == a {
			return n.Name
		}
	}
	return ""
}

// Families are the address families that may be used.
type Families struct{ No4, No6 bool }

// Allows reports whether a's family may be used.
func (f Families) Allows(a netip.Addr) bool {
	if a.Unmap().Is4() {
		return !f.No4
	}
	return !f.No6
}

// IsOpen reports whether more of any of these kinds may still come.
func (s *Set) IsOpen(kinds ...Kind) bool {
	return slices.ContainsFunc(kinds, func(k Kind) bool { return slices.Contains(s.Open, k) })
}

// IsWithheld reports whether evidence of that kind could not be gathered.
func (s *Set) IsWithheld(k Kind) bool {
	return slices.ContainsFunc(s.Withheld, func(w Withheld) bool { return w.Kind == k })
}
