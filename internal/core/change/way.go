package change

import (
	"fmt"
	"slices"
)

// Way gives the steps from some settings to others, in an order in which the system takes them. What goes with another thing is set again.
func Way(from, to Settings) ([]Op, error) {
	at := from.Clone()
	w, wanted := way{at: at.bench()}, to.bench()
	for _, x := range to.Stored { // first: who manages an interface has his own order, and what he has done need not be done again
		if is, ok := w.at.stored(x.Interface); ok && *is != x {
			w.do(Op{Do: Store, Interface: x.Interface, Name: x.Manager, Path: x.Path, Text: x.Part})
		}
	}
	for _, l := range to.Links {
		if is, _ := w.at.Link(l.Interface); l.Up && !is.Up {
			w.do(Op{Do: SwitchOn, Interface: l.Interface})
		}
		if is, ok := w.at.Link(l.Interface); ok && is.MTU != l.MTU {
			w.do(Op{Do: SetMTU, Interface: l.Interface, MTU: l.MTU})
		}
	}
	for _, r := range slices.Backward(slices.Clone(w.at.Routes)) { // those that carry gateways last
		if !wanted.has(r) && w.at.has(r) {
			w.do(routeOp(RemoveRoute, r))
		}
	}
	for _, n := range slices.Clone(w.at.Neighbours) {
		if !slices.Contains(to.Neighbours, n) {
			w.do(neighbourOp(RemoveNeighbour, n))
		}
	}
	w.addresses(to)
	for _, n := range to.Neighbours {
		if !slices.Contains(w.at.Neighbours, n) {
			w.do(neighbourOp(AddNeighbour, n))
		}
	}
	for _, r := range slices.Clone(w.at.Routes) { // what lost the address that it spoke from
		if !wanted.has(r) {
			w.do(routeOp(RemoveRoute, r))
		}
	}
	for _, r := range to.Routes {
		if !w.at.has(r) {
			w.do(routeOp(AddRoute, r))
		}
	}
	replace(&w, w.at.Rules, to.Rules, func(r Rule) Op { return ruleOp(RemoveRule, r) }, func(r Rule) Op { return ruleOp(AddRule, r) })
	replace(&w, w.at.Hosts, to.Hosts, func(h Host) Op { return hostOp(RemoveHost, h) }, func(h Host) Op { return hostOp(AddHost, h) })
	if w.at.Sources != to.Sources {
		w.do(Op{Do: SetSources, Name: to.Sources})
	}
	if !slices.Equal(w.at.Resolvers, to.Resolvers) || !slices.Equal(w.at.Search, to.Search) {
		w.do(Op{Do: SetResolvers, Resolvers: to.Resolvers, Search: to.Search})
	}
	for _, l := range to.Links {
		if is, _ := w.at.Link(l.Interface); is.Up && !l.Up {
			w.do(Op{Do: SwitchOff, Interface: l.Interface})
		}
	}
	return w.steps, w.err
}

// way is one that is being found: where it has come to.
type way struct {
	at    *bench
	steps []Op
	err   error
}

func (w *way) do(o Op) {
	if w.err != nil {
		return
	}
	if err := w.at.apply(o); err != nil {
		w.err = fmt.Errorf("%v: %w", o, err)
		return
	}
	w.steps = append(w.steps, o)
}

// replace takes away what is not wanted, and adds what is missing.
func replace[T comparable](w *way, is, wanted []T, remove, add func(T) Op) {
	is = slices.Clone(is) // it changes as steps are found
	for _, x := range is {
		if !slices.Contains(wanted, x) {
			w.do(remove(x))
		}
	}
	for _, x := range wanted {
		if !slices.Contains(is, x) {
			w.do(add(x))
		}
	}
}

// addresses brings those of each interface and family to what they shall be, in that order: the ones at the beginning that stay as they are
// are left alone, all that follow are taken away, the last first, and given anew.
func (w *way) addresses(to Settings) {
	for _, l := range to.Links {
		for _, v6 := range []bool{false, true} {
			has, wants := w.at.On(l.Interface, v6), to.On(l.Interface, v6)
			stay := 0
			for stay < min(len(has), len(wants)) && has[stay] == wants[stay] {
				stay++
			}
			for _, p := range slices.Backward(has[stay:]) {
				w.do(addressOp(RemoveAddress, Address{l.Interface, p}))
			}
			for _, p := range wants[stay:] {
				w.do(addressOp(AddAddress, Address{l.Interface, p}))
			}
		}
	}
}
