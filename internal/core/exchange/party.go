package exchange

import (
	"cmp"
	"net/netip"
	"slices"
	"strings"
	"time"
)

// Party is with whom exchanges of one kind are, and what came of them.
type Party struct {
	Kind   Kind
	With   netip.AddrPort // whoever is asked, or tells an error; without a port where each exchange has one of its own
	Name   string         // who it is where no address says so: a client of DHCP, a device
	List   []Exchange     // in the order in which they are given
	Failed int            // of them came to nothing
}

// Failed reports whether an exchange did not bring what was asked for. That nobody has an address that was probed is what was hoped for;
// and that a name does not exist is an answer, which completions of a name get day by day.
func (x *Exchange) Failed() bool {
	switch x.Outcome {
	case Unanswered, Refused, Failed, Reset, Told, Taken:
		return true
	}
	return false
}

// with gives whose exchange it is.
func (x *Exchange) with() (netip.AddrPort, string) {
	switch x.Kind {
	case Error:
		return x.From, ""
	case Group:
		return netip.AddrPortFrom(x.From.Addr(), 0), ""
	case Lease:
		client, _, _ := strings.Cut(x.Asked, ": ")
		return netip.AddrPort{}, client
	case Device:
		who, _, _ := strings.Cut(x.Asked, " ")
		return x.From, who
	}
	return x.To, ""
}

// Parties lays exchanges to those with whom they are: first those with whom something came to nothing, each sort by kind and address.
func Parties(list []Exchange) []*Party {
	type id struct {
		kind Kind
		with netip.AddrPort
		name string
	}
	of := map[id]*Party{}
	var out []*Party
	for i := range list {
		x := &list[i]
		with, name := x.with()
		k := id{x.Kind, with, name}
		if x.Kind == Device {
			k.with = netip.AddrPort{}
		}
		p := of[k]
		if p == nil {
			p = &Party{Kind: x.Kind, With: with, Name: name}
			of[k] = p
			out = append(out, p)
		}
		p.List = append(p.List, *x)
		if x.Failed() {
			p.Failed++
		}
	}
	slices.SortStableFunc(out, func(a, b *Party) int {
		return cmp.Or(-cmp.Compare(min(a.Failed, 1), min(b.Failed, 1)), cmp.Compare(a.Kind, b.Kind), a.With.Compare(b.With),
			cmp.Compare(a.Name, b.Name))
	})
	return out
}

// Column is what began in one part of a stretch of time.
type Column uint8

// The columns.
const (
	Nothing Column = iota
	Passed
	CameToNothing
)

// Columns lays the exchanges on a stretch of time that ends now, in so many parts of equal length.
func (p *Party) Columns(now time.Time, stretch time.Duration, parts int) []Column {
	out := make([]Column, parts)
	for i := range p.List {
		x := &p.List[i]
		ago := now.Sub(x.Began)
		if ago < 0 || ago >= stretch {
			continue
		}
		at := &out[parts-1-int(int64(ago)*int64(parts)/int64(stretch))]
		if x.Failed() {
			*at = CameToNothing
		} else {
			*at = max(*at, Passed)
		}
	}
	return out
}
