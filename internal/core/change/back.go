package change

import (
	"fmt"
	"slices"
)

// TakeBack gives the settings that taking a change back comes to: now, with what the change had brought taken out and what it had taken
// away put back. What others have changed since stays as it is; others says what of that was the change's own, and cannot be taken back any
// more.
func TakeBack(now, from, to Settings) (target Settings, others []string) {
	target = now.Clone()
	for i, l := range target.Links {
		was, known := from.Link(l.Interface)
		made, _ := to.Link(l.Interface)
		switch {
		case !known || was == made || l == was:
		case l == made:
			target.Links[i] = was
		default:
			others = append(others, fmt.Sprintf("%s itself: on %t, MTU %d", l.Interface, l.Up, l.MTU))
		}
	}
	var lost []string
	target.Addresses, lost = parted(now.Addresses, from.Addresses, to.Addresses)
	others = append(others, lost...)
	target.Routes, lost = parted(now.Routes, from.Routes, to.Routes)
	others = append(others, lost...)
	target.Neighbours, lost = parted(now.Neighbours, from.Neighbours, to.Neighbours)
	others = append(others, lost...)
	target.Rules, lost = parted(now.Rules, from.Rules, to.Rules)
	others = append(others, lost...)
	target.Hosts, lost = parted(now.Hosts, from.Hosts, to.Hosts)
	others = append(others, lost...)
	switch {
	case from.Sources == to.Sources || now.Sources == from.Sources:
	case now.Sources == to.Sources:
		target.Sources = from.Sources
	default:
		others = append(others, "where hosts are looked for: "+now.Sources)
	}
	for _, was := range from.Stored {
		made, changed := to.stored(was.Interface)
		is, there := target.stored(was.Interface)
		switch {
		case !changed || was == *made || there && *is == was:
		case there && *is == *made:
			*is = was
		case there:
			others = append(others, "what "+is.Path+" says of "+is.Interface)
		default:
			others = append(others, fmt.Sprintf("%s does not keep %s any more", was.Path, was.Interface))
		}
	}
	sameNames := func(a, b *Settings) bool {
		return slices.Equal(a.Resolvers, b.Resolvers) && slices.Equal(a.Search, b.Search)
	}
	switch {
	case sameNames(&from, &to) || sameNames(&now, &from):
	case sameNames(&now, &to):
		target.Resolvers, target.Search = from.Resolvers, from.Search
	default:
		others = append(others, "the name servers: "+listed(now.Resolvers))
	}
	target.sort()
	return target, others
}

// ForGood are the steps after which the addresses that a change gave a time stay again: those that were there before it.
func ForGood(done []Op, target Settings) (out []Op) {
	for _, o := range done {
		if o.Do == KeepAddress && slices.Contains(target.Addresses, Address{o.Interface, o.Prefix}) {
			o.For = 0
			out = append(out, o)
		}
	}
	return out
}

// parted takes out what was brought and puts back what was taken away; where nobody else has changed anything, it is as it was, and in that
// order.
func parted[T comparable](now, from, to []T) (out []T, others []string) {
	if slices.Equal(now, to) {
		return slices.Clone(from), nil
	}
	had, brought, has := setOf(from), setOf(to), setOf(now)
	for _, x := range to {
		if !had[x] && !has[x] {
			others = append(others, fmt.Sprintf("%v is gone", x))
		}
	}
	out = slices.DeleteFunc(slices.Clone(now), func(x T) bool { return brought[x] && !had[x] })
	for _, x := range from {
		if !brought[x] && !has[x] {
			out = append(out, x)
		}
	}
	return out, others
}

func setOf[T comparable](list []T) map[T]bool {
	set := make(map[T]bool, len(list))
	for _, x := range list {
		set[x] = true
	}
	return set
}

// Holds reports whether what a step does is so.
func (s *Settings) Holds(o Op) bool {
	link, known := s.Link(o.Interface)
	switch o.Do {
	case AddAddress, RemoveAddress, KeepAddress:
		return slices.Contains(s.Addresses, Address{o.Interface, o.Prefix}) == (o.Do != RemoveAddress)
	case Store:
		kept, ok := s.stored(o.Interface)
		return ok && kept.Part == o.Text
	case ReleaseLease:
		return !slices.Contains(s.Addresses, Address{o.Interface, o.Prefix})
	case RenewLease: // what the wire shows
		return known
	case AddRoute, RemoveRoute:
		return slices.ContainsFunc(s.Routes, func(r Route) bool { return r.bare() == o.Route().bare() }) == (o.Do == AddRoute)
	case AddNeighbour, RemoveNeighbour:
		return slices.Contains(s.Neighbours, Neighbour{o.Interface, o.Address, o.Hardware}) == (o.Do == AddNeighbour)
	case AddRule, RemoveRule:
		return slices.Contains(s.Rules, o.Rule()) == (o.Do == AddRule)
	case AddHost, RemoveHost:
		return slices.Contains(s.Hosts, o.Host()) == (o.Do == AddHost)
	case SetSources:
		return s.Sources == o.Name
	case SwitchOn, SwitchOff:
		return known && link.Up == (o.Do == SwitchOn)
	case SetMTU:
		return known && link.MTU == o.MTU
	case SetResolvers:
		return slices.Equal(s.Resolvers, o.Resolvers) && slices.Equal(s.Search, o.Search)
	}
	return false
}

// Done reports whether what a step is for is so by now, whoever did it, and with whatever metric.
func (s *Settings) Done(o Op) bool {
	if o.Do != AddRoute {
		return s.Holds(o)
	}
	return slices.ContainsFunc(s.Routes, func(r Route) bool {
		return r.To == o.Prefix && r.Via == o.Via && r.Interface == o.Interface
	})
}

// Keeps reports whether a manager is to keep what the steps set.
func Keeps(steps []Op) bool {
	return slices.ContainsFunc(steps, func(o Op) bool { return o.Do == Store })
}

// String is an address with its interface.
func (a Address) String() string { return fmt.Sprintf("%v on %s", a.Prefix, a.Interface) }

// String is an entry in words.
func (n Neighbour) String() string {
	return fmt.Sprintf("%v at %v on %s", n.Address, n.Hardware, n.Interface)
}
